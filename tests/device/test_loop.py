"""The loop alone in the VM, with a clock of its own: timers, changes, faults, what is dropped; every number approved."""

import re

from conftest import in_the_vm
from support.approved import approve

from zapato.firmware.compile import runtime_source

LIFE = """
import loop

now = [(1 << 30) - 2000]  # ms before the ports' counter begins anew
PERIOD = (1 << 30) - 1


class Clock:
    ticks_ms = staticmethod(lambda: now[0])
    ticks_add = staticmethod(lambda a, b: (a + b) & PERIOD)
    ticks_diff = staticmethod(lambda a, b: ((a - b + (1 << 29)) & PERIOD) - (1 << 29))


loop.time = Clock
loop.ticks_diff = Clock.ticks_diff


class Out:
    due = False

    def __init__(self):
        self.said = []

    def value(self, part):
        self.said.append((part.name, part.new))

    def event(self, part, name):
        self.said.append((part.name, name))

    def send(self, topic, payload):
        self.said.append((topic, payload))

    def spare(self):
        self.said.append("spare")

    def ready(self, flags):
        self.said.append(("ready", flags))


class Asked(Exception):
    pass


class Poller:
    # Ends a turn where the loop would wait.
    def ipoll(self, wait):
        raise Asked(wait)


def turn():
    # One turn; gives how long the loop would wait after it.
    try:
        d.turns()
    except Asked as asked:
        return asked.args[0]


class Lamp:
    def status(self, code):
        print("  lamp", code)


class Lock(loop.Part):
    props = ("on", "level", "closed")


def goes_by(ms):
    now[0] = (now[0] + ms) & PERIOD


def show(what):
    print(what, now[0], [(each[0], each[2], each[3]) for each in d.timers], len(d.queue), d.dropped, d.out.said, len(d.told), d.seconds)
    d.out.said.clear()


d = loop.Device("lamp", "refuge/lamp", "1.0.0", 3.3)
d.out = Out()
d.poller = Poller()
d.lamp = Lamp()
print("rests", turn())
d.after(5000, lambda: print("  five seconds"))
d.every(1000, lambda: print("  each second"))
d.every(700, lambda: print("  each 700"), 300)
gone = d.after(1500, lambda: print("  never"))
d.after(1500, lambda: print("  as late as that"))
long = d.after(700000000, lambda: print("  eight days"))
show("begun")
d.cancel(gone)
d.cancel(gone)
for ms in (0, 299, 1, 700, 1, 2600, 400, 5000, 199, 3000):
    goes_by(ms)
    print("waits", turn())
show("went by")
for _ in range(2):
    goes_by(1 << 28)
    for _ in range(40):
        if turn():
            break
show("two of three pieces")
goes_by(200000000)
for _ in range(40):
    if turn():
        break
show("eight days")
del d.timers[:]

lock, plain = d.add(Lock(d, "lock")), d.add(loop.Part(d, "plain"))
plain.new = None  # what another device says
d.listen("lock.on", lambda: print("  heard on"))
d.listen("lock.on", lambda: 1 // 0)
d.listen("lock.on", lambda: print("  heard it too"))
d.listen("lock!opened", lambda: print("  heard opened"))
for name in ("on", "level"):
    d.changed(lock, name)
for name in ("opened", "closed"):
    d.emit(lock, name)
d.changed(plain, "on")
turn()
show("settled")
for n in range(70):
    d.changed(lock, "on")
show("too much")
d.ears.clear()
turn()
show("some of it")
for _ in range(3):
    turn()
show("all of it")
for n in range(15):
    d.fault("place %d" % (n % 14), "why")
show("faults")
d.fault("place 0", "why")
d.fault("place 13", "why")
show("again")


def no_memory():
    raise MemoryError


d.changed(lock, "on")
d.guard(no_memory)
d.guard(no_memory)
show("no memory")
print(d.guard(lambda a, b: a + b, 3, 4), plain.do("x"), lock.mark(), plain.mark())
for call in (lambda: lock.set("on", 1), lambda: lock.take("on", 1)):
    try:
        call()
    except ValueError as error:
        print(error)
d.counted = now[0]
for ms in (999, 2, 61000, 500):
    goes_by(ms)
    print("up", d.uptime())
d.wake.up = 1
print(d.wake.ioctl(3, 5), d.wake.ioctl(4, 5))
d.wake.up = 0
print(d.wake.ioctl(3, 5))
d.after(50000, lambda: 0)
print("rests", turn())
d.rest = 60000
print("rests", turn())
"""


def test_a_loops_life():
    said = in_the_vm(LIFE, {"loop": runtime_source("loop", "esp32")})
    approve("loop", re.sub(r'"(loop|test_main).py", line \d+', r'"\1.py"', said))


def test_turns_in_which_nothing_is_due_take_no_memory(bench):
    """The smallest chip collects once a quarter of what was free is taken: an hour of looks at the Wi-Fi and of blinking has the six
    collections that count the free memory, and no other."""
    body = (
        '[wifi]\nname = "hall"\n[relay.lamp]\npin = "D5"\n[button.wall]\npin = "D6"\npull = "up"\n[led.calm]\npin = "D4"\n'
        '[[link]]\nwhen = "wall.pressed"\ndo = "calm.blink(\'2s\')"\n'
    )
    one, two = (
        bench(body, '[[step]]\nat = "20s"\nact = "wall.press"\n', "esp8266-30pin", lasts)
        for lasts in ("1h", "2h")
    )
    assert two.effort.turns - one.effort.turns > 4000
    assert two.used.collections - one.used.collections == 6


def test_the_lamp_of_a_device_without_broker_is_steady_once_it_has_joined(bench):
    lamp = '[wifi]\nname = "hall"\n[led.state]\npin = 4\nshows = "status"\n'
    run = bench(lamp, "", lasts="1min")
    changes = [row for row in run.records if row["what"] == "pin" and row["name"] == "GPIO4"]
    assert changes[-1]["value"] == 1 and changes[-1]["t"] < 10_000
