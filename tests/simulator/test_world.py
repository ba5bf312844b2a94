"""The world outside the VM, class by class: clock, quantities, pins, flash, network, broker, files, the VM's calls."""

import struct
from random import Random

import pytest
from conftest import in_the_vm
from hypothesis import given
from hypothesis import strategies as st

from zapato.boards import board
from zapato.checks.rings import rings
from zapato.simulator.broker import Broker, matches, packet
from zapato.simulator.chips import stand_in
from zapato.simulator.clock import Clock
from zapato.simulator.files import Disk, Flash
from zapato.simulator.heap import HeapMeter, HeapUse, largest_free
from zapato.simulator.interrupts import Interrupts
from zapato.simulator.network import FLIGHT, AccessPoint, Station
from zapato.simulator.pins import BOUNCE, Pins
from zapato.simulator.trace import Trace
from zapato.simulator.vm import Machine, Stopped
from zapato.simulator.wasi import Fault
from zapato.simulator.world import Quantities

# --- the clock


@given(st.lists(st.integers(0, 500), max_size=40))
def test_events_come_in_their_order_and_equal_ones_as_they_were_set(moments):
    clock, seen = Clock(), []
    for number, when in enumerate(moments):
        clock.at(when, lambda row=(when, number): seen.append((clock.now, *row)))
    clock.go(1000)
    assert [row[1:] for row in seen] == sorted((when, number) for number, when in enumerate(moments))
    assert all(now == when for now, when, _ in seen) and clock.now == 1000


def test_waiting_ends_at_the_event_that_makes_it_ready():
    clock, woken = Clock(), []
    clock.at(50, lambda: None)
    clock.at(70, lambda: woken.append(1))
    clock.at(90, lambda: woken.append(2))
    assert clock.go(1000, lambda: bool(woken)) and clock.now == 70 and woken == [1]
    assert not clock.go(80) and clock.now == 80
    assert clock.go(1000, lambda: True) and clock.now == 80, "ready already: no time goes by"


def test_work_takes_time_and_the_world_goes_on_meanwhile():
    clock, seen = Clock(), []
    clock.at(2, lambda: seen.append(clock.now))
    for _ in range(5):
        clock.busy(700)
    assert (clock.now, clock.micro) == (3, 500) and seen == [2]


# --- quantities


def test_a_value_on_its_way():
    clock = Clock()
    felt = Quantities(clock)["t"]
    assert felt.get() is None
    felt.set(10)
    felt.set(20, over=1000)
    clock.go(250)
    assert felt.get() == 12.5
    felt.set(0, over=100)  # turned round on its way
    clock.go(300)
    assert felt.get() == pytest.approx(6.25)
    clock.go(9000)
    assert felt.get() == 0
    felt.set(True, over=100)
    assert felt.get() is True or felt.get() == 0


# --- pins


@pytest.fixture
def pins():
    clock = Clock()
    return Pins(board("esp32-38pin").chip, clock, Trace(clock), Random(3), Interrupts(clock, 8))


def test_who_decides_a_level(pins):
    line = pins.line(33)
    pins.set_up(33, 0, 1, -1)
    assert line.level == 1, "its own pull-up"
    line.change(0)
    assert line.level == 0, "the world is stronger"
    pins.set_up(33, 1, -1, 1)
    assert line.level == 1, "the program drives it"
    pins.power_off()
    assert line.level == 0


def test_interrupts_fire_at_the_edges_that_were_asked_for(pins):
    for gpio, trigger in ((32, 1), (33, 2), (25, 3)):
        pins.set_up(gpio, 0, -1, -1)
        pins.listen(gpio, trigger, False)
    fired = []
    for level in (1, 0):
        for gpio in (32, 33, 25):
            pins.line(gpio).change(level)
        fired.append([each.number for each in pins.interrupts.waiting])
        pins.interrupts.clear()
    assert fired == [[32, 25], [33, 25]]


def test_metal_bounces_and_lies_still_at_last(pins):
    pins.bounces = True
    pins.set_up(33, 0, -1, -1)
    longest = 0
    for turn in range(60):
        before = len(pins.trace.rows)
        begun = pins.clock.now
        pins.contact(33, turn % 2 == 0)
        pins.clock.go(begun + 100)
        edges = pins.trace.rows[before:]
        assert pins.line(33).level == (turn % 2 == 0) and len(edges) % 2
        longest = max(longest, edges[-1]["t"] - begun)
    assert 5 < longest < BOUNCE


@pytest.mark.parametrize(("gpio", "mode", "pull"), [(34, 1, -1), (35, 0, 1), (99, 0, -1)])
def test_what_the_chip_cannot_do_is_refused(pins, gpio, mode, pull):
    with pytest.raises(Fault):
        pins.line(gpio)
        pins.set_up(gpio, mode, pull, -1)


# --- flash and files


@pytest.fixture
def disk():
    return Disk({"app": {"main.mpy": b"code"}}, Flash(), lambda name: None)


def opened(disk: Disk, name: str, mode: str):
    return disk.open(
        name, create="w" in mode or "a" in mode, truncate="w" in mode, append="a" in mode, writes=mode != "r"
    )


def test_files_of_the_flash(disk):
    file = opened(disk, "kept.json", "w")
    file.write(b"12345")
    assert file.seek(1, 0) == 1 and file.write(b"xy") == 2
    assert disk.flash.files == {"kept.json": b"1xy45"} and disk.size("kept.json") == 5
    opened(disk, "kept.json", "a").write(b"!")
    assert opened(disk, "kept.json", "r").read(100) == b"1xy45!"
    disk.rename("kept.json", "other/kept.json")
    assert disk.names("") == [("other", True)] and disk.names("other") == [("kept.json", False)]
    disk.remove("other/kept.json")
    assert not disk.flash.files and disk.flash.writes == 6


@pytest.mark.parametrize(
    "act",
    [
        lambda d: opened(d, "nowhere", "r"),
        lambda d: opened(d, "app/main.mpy", "w"),
        lambda d: opened(d, "app/none.mpy", "r"),
        lambda d: opened(d, "app/main.mpy", "r").write(b"x"),
        lambda d: d.size("nowhere"),
        lambda d: d.names("nowhere"),
        lambda d: d.rename("nowhere", "x"),
        lambda d: d.remove("nowhere"),
        lambda d: d.make_folder("x"),
    ],
)
def test_what_cannot_be_done_with_files(disk, act):
    with pytest.raises(Fault):
        act(disk)


def test_a_flash_that_is_cut_has_half(disk):
    disk.flash.files["a"] = b"old"
    disk.flash.torn = KeyboardInterrupt()
    with pytest.raises(KeyboardInterrupt):
        disk.flash.change("a", b"newest")
    assert disk.flash.files == {"a": b"new"}
    disk.flash.change("a", b"whole")
    assert disk.flash.files == {"a": b"whole"}


def test_a_flash_that_fails_keeps_what_was_there(disk):
    opened(disk, "a", "w").write(b"old")

    def fail(name: str) -> None:
        raise Fault(5)

    disk.flash.before_write = fail
    for act in (lambda: opened(disk, "a", "w"), lambda: disk.rename("a", "b"), lambda: disk.remove("a")):
        with pytest.raises(Fault):
            act()
    assert disk.flash.files == {"a": b"old"}


def test_files_seen_from_inside_the_vm():
    said = in_the_vm(
        "import os\n"
        "with open('a.txt', 'w') as f:\n    f.write('one\\ntwo\\n')\n"
        "with open('a.txt') as f:\n    print([line.strip() for line in f])\n"
        "os.rename('a.txt', 'b.txt')\n"
        "print(os.listdir('/'), os.stat('b.txt')[6])\n"
        "try:\n    open('a.txt')\nexcept OSError as error:\n    print('gone', error.errno)\n"
        "with open('b.txt', 'r+b') as f:\n    f.seek(4)\n    f.write(b'TWO')\n    f.seek(0)\n    print(f.read())\n"
        "os.remove('b.txt')\nprint(os.listdir('/'))\n"
        "try:\n    open('/app/x', 'w')\nexcept OSError as error:\n    print('read-only')\n",
        {},
    )
    assert said.splitlines() == [
        "['one', 'two']",
        "['b.txt'] 8",
        "gone 2",
        "b'one\\nTWO\\n'",
        "[]",
        "read-only",
    ]


# --- the VM itself


def machine(source: str, host=lambda name, data: "", heap: int = 65_536) -> tuple[Machine, list[bytes]]:
    from zapato.firmware.compile import cache_folder, compile_all

    program = {"probe.mpy": compile_all({"probe": source}, cache_folder())["probe"]}
    said: list[bytes] = []
    disk = Disk({"app": program}, Flash(), lambda name: None)
    return Machine("esp32", 1 << 16, heap, disk, host, said.append, {"MICROPYPATH": "/app"}), said


def test_the_vm_is_one_of_32_bits_with_the_heap_it_is_given():
    made, said = machine("import gc, sys\ngc.collect()\nprint(sys.maxsize, gc.mem_free() + gc.mem_alloc())\n")
    assert made.run("probe") == 0
    largest, heap = map(int, b"".join(said).split())
    assert largest == 2**31 - 1 and 65_536 * 0.95 < heap < 65_536


def test_calls_carry_bytes_out_and_text_back():
    seen = []

    def host(name: str, data: bytes) -> str:
        seen.append((name, data))
        if name == "fail":
            raise Fault(11)
        return "x" * 500 if name == "long" else "grüezi"

    source = "import host\nprint(host.call('a', b'\\x00\\xff'), host.call('fail', ''), len(host.call('long', 'y')))\n"
    made, said = machine(source, host)
    assert made.run("probe") == 0 and seen == [("a", b"\x00\xff"), ("fail", b""), ("long", b"y")]
    assert b"".join(said).decode() == "grüezi !11 256\n"


def test_what_the_host_raises_ends_the_run_and_is_raised():
    class Enough(Exception):
        pass

    def host(name: str, data: bytes) -> str:
        raise Enough

    made, said = machine(
        "import host\ntry:\n    host.call('x', '')\nexcept BaseException:\n    print('never')\n", host
    )
    with pytest.raises(Enough):
        made.run("probe")
    assert not said


def test_instructions_repeat_exactly_and_run_out():
    source = "total = 0\nfor n in range(20000):\n    total += n\n"
    one, two = machine(source)[0], machine(source)[0]
    assert one.run("probe") == two.run("probe") == 0 and one.spent == two.spent > 1_000_000
    endless, _ = machine("while True:\n    pass\n")
    endless.allow(30_000_000)
    with pytest.raises(Stopped):
        endless.run("probe")


def test_the_collector_sees_every_root():
    """The repaired image: objects under constant collection keep what they hold."""
    source = (
        "import gc\nkeep = {}\nseed = 7\n"
        "for n in range(9000):\n"
        "    seed = (seed * 1103515245 + 12345) & 0x3fffffff\n"
        "    k = seed % 97\n"
        "    keep[k] = [str(k) * 3, (k, [k] * (k % 9)), {'k': k}]\n"
        "    if n % 61 == 0:\n        gc.collect()\n"
        "for k in keep:\n    v = keep[k]\n    assert v[0] == str(k) * 3 and v[1][0] == k and v[2]['k'] == k, k\n"
        "print(len(keep))\n"
    )
    made, said = machine(source)
    assert made.run("probe") == 0 and b"".join(said) == b"97\n"


# --- chips


@pytest.mark.parametrize(("light", "counts"), [(0, 0), (100, 120), (54_612, 65_534), (99_999, 65_535)])
def test_the_light_sensor_counts_as_its_datasheet_says(light, counts):
    chip = stand_in("bh1750", lambda name: light)
    assert chip.read(2) == b"\0\0", "not before it was told to measure"
    chip.write(b"\x01")
    chip.write(b"\x10")
    chip.now = lambda: 180.0
    assert int.from_bytes(chip.read(2), "big") == counts


# --- network and broker


class Talk:
    """A client made of bytes, in the simulator's network."""

    def __init__(self) -> None:
        self.clock = Clock()
        self.trace = Trace(self.clock)
        self.air = AccessPoint(self.clock, self.trace, ("hall", "secret"))
        self.broker = Broker(self.clock, self.trace)
        self.heard = b""

    def join(self) -> "Talk":
        self.station = Station(self.air, self.broker)
        self.station.active = True
        self.station.connect("hall", "secret")
        self.clock.go(self.clock.now + 5000)
        return self

    def dial(self) -> "Talk":
        self.wire = self.station.wires[self.station.socket()]
        self.wire.watched = 5
        self.wire.connect("192.168.4.2", 1883)
        self.clock.go(self.clock.now + 100)
        return self

    def send(self, *data: bytes) -> "Talk":
        for each in data:
            self.wire.write(each)
        self.clock.go(self.clock.now + 10 * FLIGHT)
        while self.wire.into:
            self.heard += self.wire.read(64)
        return self

    def login(self, client: str = "dev", flags: int = 2, keep: int = 30, rest: bytes = b"") -> "Talk":
        return self.send(
            packet(0x10, text("MQTT") + bytes([4, flags]) + struct.pack(">H", keep) + text(client) + rest)
        )


def text(word: str) -> bytes:
    return struct.pack(">H", len(word)) + word.encode()


@pytest.fixture
def talk():
    return Talk().join().dial()


def test_a_connection_takes_its_time_and_says_when_it_is_there():
    made = Talk().join()
    number = made.station.socket()
    wire = made.station.wires[number]
    wire.watched = 5
    wire.connect("x", 1)
    assert wire.flags == 0
    with pytest.raises(Fault):
        wire.write(b"x")
    made.clock.go(made.clock.now + 2 * FLIGHT)
    assert wire.flags == 4 and wire.write(b"x") == 1
    with pytest.raises(Fault):
        wire.read(1)


def test_the_wrong_password_never_joins_and_the_signal_is_an_error():
    made = Talk()
    station = Station(made.air, made.broker)
    with pytest.raises(Fault):
        station.connect("hall", "secret")  # the radio is off
    station.active = True
    station.connect("hall", "wrong")
    made.clock.go(60_000)
    assert not station.joined
    with pytest.raises(Fault):
        station.signal()


def test_a_refused_connection_is_an_error_to_poll():
    made = Talk().join()
    made.broker.set(False)
    made.dial()
    assert made.wire.flags & 24
    with pytest.raises(Fault):
        made.wire.read(1)


def test_the_broker_answers_as_the_standard_says(talk):
    talk.login().send(packet(0x82, b"\x00\x07" + text("a/+/set") + b"\x01"), b"\xc0\x00")
    assert talk.heard == b"\x20\x02\x00\x00" + b"\x90\x03\x00\x07\x01" + b"\xd0\x00"
    talk.heard = b""
    talk.broker.message("a/x/set", "true")
    talk.send()
    assert talk.heard == packet(0x32, text("a/x/set") + b"\x00\x01" + b"true")


def test_bytes_in_pieces_and_packets_in_heaps(talk):
    stream = (
        packet(0x10, text("MQTT") + b"\x04\x02\x00\x1e" + text("dev")) + packet(0x30, text("a/b") + b"1") * 3
    )
    for n in range(len(stream)):
        talk.wire.write(stream[n : n + 1])
    talk.send()
    assert [t for t, _ in talk.broker.seen] == ["a/b"] * 3


def test_what_is_retained_is_given_to_whoever_subscribes(talk):
    talk.login().send(
        packet(0x31, text("a/on") + b"true"),
        packet(0x31, text("a/off") + b"true"),
        packet(0x31, text("a/off")),
    )
    talk.heard = b""
    talk.send(packet(0x82, b"\x00\x01" + text("#") + b"\x00"))
    assert talk.heard.endswith(packet(0x31, text("a/on") + b"true")) and b"a/off" not in talk.heard


@pytest.mark.parametrize("how", ["silence", "closed", "goodbye", "broker", "twice"])
def test_the_will_is_published_when_and_only_when_it_should(talk, how):
    talk.login(flags=0x26, keep=10, rest=text("a/state") + text("offline"))
    if how == "silence":
        talk.clock.go(talk.clock.now + 16_000)
    elif how == "closed":
        talk.wire.close()
    elif how == "goodbye":
        talk.send(b"\xe0\x00")
    elif how == "broker":
        talk.broker.set(False)
    else:
        talk.dial().login()
    assert (("a/state", "offline") in talk.broker.seen) == (how in ("silence", "closed", "twice"))


def test_a_broker_that_misbehaves(talk):
    talk.broker.refuses = 4
    assert (
        talk.login().heard == b"\x20\x02\x00\x04"
        and talk.clock.go(talk.clock.now + 200) is False
        and talk.wire.ended
    )
    talk.broker.refuses, talk.broker.denies, talk.heard = 0, True, b""
    talk.dial().login().send(packet(0x82, b"\x00\x01" + text("a/b") + b"\x00"))
    assert talk.heard == b"\x20\x02\x00\x00\x90\x03\x00\x01\x80"
    talk.broker.silent, talk.heard = True, b""
    talk.send(b"\xc0\x00")
    assert talk.heard == b"" and talk.wire.flags == 4
    talk.broker.close_all()
    assert talk.wire.read(1) == b""


def test_a_message_that_nobody_hears_is_told(talk):
    talk.broker.message("a/x/set", "true")
    assert [r["name"] for r in talk.trace.rows if r["what"] == "lost"] == ["a/x/set"]


def test_power_gone_nobody_says_goodbye(talk):
    talk.login(flags=0x26, keep=10, rest=text("a/state") + text("offline"))
    talk.station.lose_power()
    assert not talk.broker.seen and not talk.station.wires
    talk.clock.go(talk.clock.now + 16_000)
    assert ("a/state", "offline") in talk.broker.seen


FILTERS = [
    ("a/b", "a/b", True),
    ("a/+", "a/b", True),
    ("a/+", "a/b/c", False),
    ("a/#", "a/b/c", True),
    ("#", "a", True),
    ("+/+/set", "a/b/set", True),
    ("a/b/c", "a/b", False),
    ("a", "a/b", False),
]


@pytest.mark.parametrize(("filter", "topic", "takes"), FILTERS)
def test_topic_filters(filter, topic, takes):
    assert matches(filter, topic) is takes


# --- rings


@given(st.dictionaries(st.integers(0, 12), st.lists(st.integers(0, 12), max_size=4), max_size=13))
def test_rings_are_what_leads_back(leads):
    """Against the plain definition: a node is in a ring where it can be reached from itself."""

    def reached(start: int) -> set[int]:
        found: set[int] = set()
        waiting = list(leads.get(start, ()))
        while waiting:
            each = waiting.pop()
            if each not in found:
                found.add(each)
                waiting += leads.get(each, ())
        return found

    made = rings(leads)
    back = {node for node in leads if node in reached(node)}
    assert set().union(*made) == back and sum(map(len, made)) == len(back)
    for ring in made:
        assert all(
            ring == {other for other in back if other in reached(node) and node in reached(other)}
            for node in ring
        )


@given(
    st.lists(
        st.lists(st.sampled_from([0, 0, 0, 0, 1, 4, 64, 85]), min_size=60, max_size=60).map(bytes),
        min_size=1,
        max_size=6,
    )
)
def test_the_largest_free_piece_at_its_smallest(tables):
    """However quick the look at each table is: the smallest of the largest pieces, by the slow way."""
    meter = HeapMeter(HeapUse())
    meter.collected(bytes(60))  # what is taken before the program begins
    for table in tables:
        meter.collected(table)
    assert meter.use.largest == min(map(_largest, tables))


def _largest(table):
    blocks = "".join("01"[(byte >> 2 * n) & 3 != 0] for byte in table for n in range(4))
    return 16 * max(map(len, blocks.split("1")))


@given(st.binary(min_size=1, max_size=9) | st.lists(st.sampled_from([0, 1, 64, 255]), min_size=1).map(bytes))
def test_the_largest_free_piece_of_any_table(table):
    assert largest_free(table) == _largest(table)
