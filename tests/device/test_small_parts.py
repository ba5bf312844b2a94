"""Modules of the runtime alone in the VM: what other devices say, treatments of readings, links with their times. What they do is approved."""

import re

import pytest
from conftest import in_the_vm
from support.approved import approve

from zapato.firmware.compile import runtime_source

DESK = """
class Desk:
    # The loop as far as these modules use it: what they ask of it is shown.
    def __init__(self):
        self.parts = {}
        self.starts = []
        self.dropped = 0
        self.ears = {}
        self.out = None
        self.armed = []

    def changed(self, part, name, event=0):
        print("   happened", part.name, name, event)

    def listen(self, key, hear):
        self.ears.setdefault(key, []).append(hear)

    def after(self, ms, call, period=0):
        self.armed.append((ms, call))
        print("   after", ms)
        return self.armed[-1]

    def every(self, ms, call, first=None):
        print("   every", ms, first)
        return self.after(ms if first is None else first, call)

    def cancel(self, timer):
        if timer in self.armed:
            self.armed.remove(timer)
            print("   cancels", timer[0])

    def fault(self, place, error):
        print("   fault", place, error)

    def guard(self, call, *given):
        try:
            return call(*given)
        except Exception as error:
            print("   guarded", repr(error))


def due():
    # Everything that was to come later, once.
    waiting, d.armed = d.armed, []
    for ms, call in waiting:
        print("  due", ms)
        call()


d = Desk()
"""

REMOTE = """
from remote_part import FARS, Peers, RemotePart, value_said


class Mqtt:
    state, qos, d = 3, 1, d
    space = 60

    def online(self):
        print("   greeted")

    def message(self, kind, body):
        print("   for itself", kind, bytes(body))

    def packet(self, kind, body):
        print("   packet", kind, bytes(body))

    def close(self):
        print("   closed")

    def room(self, size):
        self.space -= size
        return self.space >= 0

    def next(self):
        self.count = getattr(self, "count", 0) + 1
        return self.count

    def two(self, number):
        self.put(bytes((number >> 8, number & 255)))

    def put(self, data):
        print("   puts", bytes(data))

    def head(self, kind, size):
        print("   head", kind, size)

    def text(self, *pieces):
        print("   text", *pieces)

    def flush(self):
        print("   flushed")

    def ack(self, high, low):
        print("   acknowledges", high, low)


def said(topic, payload, kind=0x30):
    print(topic, payload, kind)
    name = topic.encode()
    body = bytes((0, len(name))) + name + (b"\\1\\2" if kind & 6 else b"") + payload
    mqtt.message(kind, body)
    print("   is", far.up, far.sure, [getattr(far, name) for name, _ in far.props], [getattr(other, name) for name, _ in other.props])


far = RemotePart(d, "hall.door", "refuge/hall", "door", (("closed", bool), ("level", float), ("word", str)), ("closed", "opened"))
other = RemotePart(d, "hall.lamp", "refuge/hall", "lamp", (("on", bool),), ())
mqtt = Mqtt()
peers = Peers(mqtt)
print(peers.ways)
mqtt.online()
mqtt.space = 1000
due()
for number in range(1, 8):
    mqtt.packet(0x90, bytes((0, number, 0x80 if number == 3 else 1)))
said("refuge/hall/door/closed", b"true")
said("refuge/hall/state", b"online")
said("refuge/hall/door/closed", b"false", 0x31)
said("refuge/hall/door/closed", b"true")
said("refuge/hall/door/closed", b"true")
said("refuge/hall/door/closed", b"null")
said("refuge/hall/door/level", b"21.5", 0x32)
said("refuge/hall/door/level", b'[{"n": "x", "v": 3}]')
said("refuge/hall/door/level", b'"warm"')
said("refuge/hall/door/word", b'"auto"')
said("refuge/hall/door/word", b"7")
said("refuge/hall/door/word", b"not json")
said("refuge/hall/door/opened", b"{}", 0x31)
said("refuge/hall/door/opened", b"{}")
said("refuge/hall/lamp/on", b'[{"vb": true}]')
said("refuge/lamp/r/on/set", b"true", 0x32)
mqtt.close()
print(far.sure, far.closed, other.on)
mqtt.close()
due()
print(far.sure, far.closed, other.on)
said("refuge/hall/state", b"online")
said("refuge/hall/lamp/on", b"true")
mqtt.close()
said("refuge/hall/state", b"offline")
due()
for value, kind in ((["x"], bool), ([], float), ([{"vs": "a"}], str), ([{"v": 2}], float), (None, str), (1, bool)):
    try:
        print(value, value_said(value, kind))
    except ValueError as error:
        print(value, error)
"""

TREATMENT = """
from treatment import Repeated, Treated, Treatment

ROW = (3, -2, 10.5, 0, 40, 7, 7.00004, 100)
for given in (
    (1, 0, (), 0, 0), (2, -0.5, (), 0, 0), (0.1, 0, ((0, 10), (5, 20), (10, 0)), 0, 0), (1, 0, ((0, 10), (5, 20), (10, 0)), 1, 3),
    (1, 0, (), 1, 3), (1, 0, (), 1, 4), (1, 0, (), 2, 3), (1, 0, (), 3, 4), (1, 1, ((1, 1),), 2, 2),
):
    way = Treatment(*given)
    print(given, [way.through(value) for value in ROW])


class Part:
    props, new = ("a", "b", "c"), 2
    rows = [(1, 2), (3, 4), None, (5, 6)]

    def measure(self):
        row = self.rows.pop(0)
        if row is None:
            raise OSError(5)
        return row


part = Part()
Treated(part, (Treatment(1, 0, (), 2, 9), None))
for _ in range(4):
    try:
        print(part.measure())
    except OSError as error:
        print(error)


class Out:
    def value(self, part):
        print("   says", part.new)


Repeated(d, part, 5000)
due()
d.out = Out()
d.after(5000, lambda: Repeated(d, part, 7000))
due()
due()
"""

LINKS = """
from links import Link

now = {"hot": False, "night": False, "rearm": True}


class Lamp:
    def __init__(self, name):
        self.name, self.on = name, False

    def do(self, action):
        print("  ", self.name, action)
        if action == "explode":
            return False
        self.on = action == "on"

    def mark(self):
        return self.on

    def set(self, name, value):
        print("  ", self.name, name, value)
        self.on = value


lamp, fan = Lamp("lamp"), Lamp("fan")


def weigh(hot, **more):
    now.update(hot=hot, **more)
    print("hot", hot, more)
    for hear in d.ears.get("s.hot", ()):
        hear()


def show(link):
    print("  armed", link.armed, "holding", bool(link.holding), "waits", link.waits, "undoing", bool(link.undoing), "taken", link.taken and len(link.taken), "dropped", d.dropped)


CASES = (
    ("plain", dict(reads=("s.hot",), when=lambda: now["hot"])),
    ("held", dict(reads=("s.hot",), when=lambda: now["hot"], held=500)),
    ("back", dict(reads=("s.hot",), when=lambda: now["hot"], rearm=lambda: now["rearm"])),
    ("if", dict(reads=("s.hot",), when=lambda: now["hot"], test=lambda: now["night"])),
    ("after", dict(reads=("s.hot",), when=lambda: now["hot"], wait=300)),
    ("for", dict(reads=("s.hot",), when=lambda: now["hot"], takes=(lamp,), span=900)),
    ("every", dict(every=60)),
    ("wrong", dict(reads=("s.hot",), when=lambda: 1 // 0)),
    ("wrong if", dict(reads=("s.hot",), when=lambda: now["hot"], test=lambda: 1 // 0)),
    ("no memory", dict(reads=("s.hot",), when=lambda: now["memory"])),
)
for name, given in CASES:
    print("==", name)
    d.ears.clear()
    del d.armed[:], d.starts[:]
    lamp.on = fan.on = False
    now.update(hot=name == "held", night=False, rearm=True)
    link = Link(d, 3, ((lamp, "on"), lambda: fan.do("off"), (fan, "explode")), **given)
    for begin in d.starts:
        d.guard(begin)
    show(link)
    for hot, more in ((True, {}), (True, {}), (False, {"rearm": True}), (True, {"night": True}), (False, {"rearm": False}), (True, {})):
        d.guard(lambda: weigh(hot, **more))
        show(link)
    due()
    show(link)
    lamp.on = False
    weigh(False)
    weigh(True)
    due()
    due()
    show(link)
print("== event")
d.ears.clear()
link = Link(d, 4, ((lamp, "on"),), event="b!pressed", wait=100)
for _ in range(10):
    d.ears["b!pressed"][0]()
show(link)
due()
show(link)
"""

BOOT = """
import boot_slot
import io
import sys

mine = __import__
tree = {}
fails = [False]


class Disk:
    # A flash as names and texts; what is written to it can fail.
    @staticmethod
    def listdir(folder=""):
        start = folder + "/" if folder else ""
        found = [name[len(start) :].split("/")[0] for name in sorted(tree) if name.startswith(start)]
        if not found and folder:
            raise OSError(2)
        return found

    @staticmethod
    def remove(name):
        if fails[0]:
            raise OSError(28)
        del tree[name]

    @staticmethod
    def rename(old, new):
        tree[new] = tree.pop(old)


class File:
    def __init__(self, name, mode="r"):
        if mode == "w" and fails[0]:
            raise OSError(28)
        if mode == "r" and name not in tree:
            raise OSError(2)
        self.name = name

    def __enter__(self):
        return self

    def __exit__(self, *given):
        pass


class Json:
    @staticmethod
    def load(file):
        if tree[file.name] == "torn":
            raise ValueError
        return tree[file.name]

    @staticmethod
    def dump(data, file):
        tree[file.name] = data


boot_slot.os, boot_slot.json, boot_slot.open = Disk, Json, File
boot_slot.print = lambda *words: print("  says", *words)
A = {"a/manifest.json": {"version": "1.0"}, "a/safe/start.mpy": "", "a/plan.mpy": ""}
B = {"b/manifest.json": {"version": "1.1"}, "b/safe/start.mpy": "", "b/plan.mpy": ""}
BOTH = dict(A, **B)
STATES = (
    ("nothing", {}),
    ("a", A),
    ("b alone", B),
    ("b runs", dict(BOTH, **{"b.runs": ""})),
    ("b runs and is not whole", dict(A, **{"b.runs": "", "b/plan.mpy": ""})),
    ("b on trial", dict(BOTH, **{"slots.json": {"trial": "b", "left": 3}})),
    ("b on trial, the last start", dict(BOTH, **{"slots.json": {"trial": "b", "left": 1}})),
    ("b on trial, none left", dict(BOTH, **{"slots.json": {"trial": "b", "left": 0}, "ask.json": {"update": "1.1"}})),
    ("b on trial and not whole", dict(A, **{"slots.json": {"trial": "b", "left": 3}, "b/plan.mpy": ""})),
    ("a on trial and in use", dict(BOTH, **{"slots.json": {"trial": "a", "left": 3}})),
    ("a trial of nothing", dict(BOTH, **{"slots.json": {"trial": "c", "left": 3}})),
    ("no number", dict(BOTH, **{"slots.json": {"trial": "b", "left": "3"}})),
    ("torn", dict(BOTH, **{"slots.json": "torn"})),
    ("a list", dict(BOTH, **{"slots.json": [1]})),
    ("two faults", dict(A, **{"fault.json": {"count": 2}})),
    ("three faults", dict(A, **{"fault.json": {"count": 3}})),
    ("three faults, no minimal program", {"a/manifest.json": {}, "fault.json": {"count": 3}}),
    ("asked for", dict(A, **{"ask.json": {}})),
    ("asked for while on trial", dict(BOTH, **{"ask.json": {}, "slots.json": {"trial": "b", "left": 2}})),
)
before = list(sys.path)
for fails[0] in (False, True):
    for name, files in STATES:
        tree.clear()
        tree.update(files)
        sys.modules["boot_slot"] = boot_slot
        sys.path[:] = before
        print(name, "- no room" if fails[0] else "")
        try:
            boot_slot.choose(Disk.listdir())
            print("  runs", sys.path[0], [row for row in sorted(tree.items()) if ".json" in row[0] and "/" not in row[0]])
        except Exception as error:
            print("  ends", repr(error))
"""

SPARE = """
import sys

sys.modules["machine"] = sys.modules["network"] = sys  # nothing of them is asked for here
import access


class Page:
    visitors = []

    def part(self, who):
        print("   parts with", who)
        self.visitors.remove(who)


for Page.visitors in ([], [1, 2, 3]):
    access.Access.spare(Page())
    print(Page.visitors)
"""

CASES = {
    "access-out-of-memory": (
        SPARE,
        ("access", "cmd_update", "start", "loop", "values", "mqtt", "update", "boot_slot", "names"),
    ),
    "boot": (BOOT, ("boot_slot",)),
    "remote": (REMOTE, ("remote_part", "values")),
    "treatment": (TREATMENT, ("treatment",)),
    "links": (LINKS, ("links",)),
}


@pytest.mark.parametrize("name", CASES)
def test_what_it_does(name):
    text, modules = CASES[name]
    said = in_the_vm(DESK + text, {module: runtime_source(module, "esp32") for module in modules})
    approve(f"runtime-{name}", re.sub(r", line \d+", "", said))
