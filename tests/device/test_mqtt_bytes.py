"""The MQTT client's bytes: what it sends, and what it makes of packets that come in pieces, in heaps or broken.

The compiled client runs in the real VM with a socket made of lists.
"""

import json
import random
import re
import struct

import pytest
from conftest import in_the_vm
from support.approved import approve

from zapato.firmware.compile import runtime_source
from zapato.rules.mqtt_greeting import ROOM, greeting

HARNESS = """
import json
import mqtt


class Poller:
    def register(self, *rest):
        pass

    modify = unregister = register


class Device:
    topic, version, name = "refuge/lamp", "1.0.0", "lamp"
    free = 4096

    def __init__(self):
        self.poller = Poller()
        self.parts = {}
        self.said = []
        self.code = None
        self.timers = []

    def after(self, ms, call):
        self.timers.append((ms, call))
        return self.timers[-1]

    def every(self, ms, call):
        return self.after(ms, call)

    def settle(self):
        pass

    def fault(self, place, error):
        self.said.append(place + ": " + str(error))

    def cancel(self, timer):
        if timer in self.timers:
            self.timers.remove(timer)

    def note(self, text):
        self.said.append(text)

    def status(self, code):
        self.code = code

    def uptime(self):
        return 7


class Part:
    name, props, sets, timed = "r", ("on",), ("on",), ("pulse",)
    on, new = False, 0

    def __init__(self):
        self.told = []

    def take(self, name, value):
        self.told.append(["set", name, value])

    def do(self, *words):
        self.told.append(["do"] + list(words))
        return words[0] != "explode"


class Sock:
    def __init__(self, chunks, room):
        self.chunks = chunks
        self.sent = bytearray()
        self.room = room
        self.closed = False

    def readinto(self, into):
        data = self.chunks[0][: len(into)]
        self.chunks[0] = self.chunks[0][len(into) :]
        into[: len(data)] = data
        if not self.chunks[0]:
            self.chunks.pop(0)
        return len(data)

    def write(self, data):
        count = min(self.room, len(data))
        self.sent.extend(data[:count])
        return count

    def close(self):
        self.closed = True


def run(case):
    d, part = Device(), Part()
    d.parts["r"] = part
    m = mqtt.Mqtt(d, "h", 1883, case["user"], case["password"], case["qos"], 30000)
    sock = m.sock = Sock([bytes(c) for c in case["chunks"]], case["room"])
    m.up = True
    m.state = 1
    m.ready(4)
    while sock.chunks and m.sock:
        m.ready(1)
    for _ in range(case["flush"]):
        m.ready(4)
    return {"sent": list(sock.sent), "told": part.told, "said": d.said, "state": m.state, "closed": sock.closed, "flight": len(m.flight), "code": d.code}


import builtins
out = print
builtins.print = lambda *words: None
with open("cases.json") as file:
    for case in json.load(file):
        out(json.dumps(run(case)))
"""

CONNACK, PINGRESP = b"\x20\x02\x00\x00", b"\xd0\x00"


def publish(topic: str, payload: bytes, qos: int = 0, number: int = 7) -> bytes:
    """A PUBLISH packet (MQTT 3.1.1, section 3.3)."""
    name = topic.encode()
    body = struct.pack(">H", len(name)) + name + (struct.pack(">H", number) if qos else b"") + payload
    size, left = b"", len(body)
    while True:
        size += bytes([left % 128 | (128 if left > 127 else 0)])
        left //= 128
        if not left:
            return bytes([0x30 | qos << 1]) + size + body


def packets(data: bytes) -> list[tuple[int, bytes]]:
    """The packets in a stream of bytes: first byte and body."""
    found, at = [], 0
    while at < len(data):
        size, shift, first = 0, 0, data[at]
        at += 1
        while True:
            size |= (data[at] & 127) << shift
            shift += 7
            at += 1
            if not data[at - 1] & 128:
                break
        found.append((first, data[at : at + size]))
        at += size
    return found


@pytest.fixture
def client():
    """Run cases through the client; each gives what was sent, told, noted, and the state it is left in."""
    modules = {name: runtime_source(name, "esp32") for name in ("mqtt", "values")}

    def run(
        *chunks: bytes,
        qos: int = 0,
        user: str = "",
        password: str = "",
        room: int = 10_000,
        flush: int = 0,
        many=None,
    ):
        given = many or [chunks]
        cases = [
            {
                "chunks": [list(c) for c in each],
                "qos": qos,
                "user": user,
                "password": password,
                "room": room,
                "flush": flush,
            }
            for each in given
        ]
        said = in_the_vm(HARNESS, modules, {"cases.json": json.dumps(cases).encode()}).splitlines()
        assert len(said) == len(cases), said
        results = [json.loads(line) for line in said]
        for each in results:
            each["sent"] = bytes(each["sent"])
        return results if many else results[0]

    return run


ONLINE = 3


def test_connect_is_as_the_standard_says(client):
    """Section 3.1: protocol name and level, clean session with a retained will, keep-alive in seconds, client, will, user, password."""
    first, body = packets(client(user="devices", password="marmot")["sent"])[0]
    assert first == 0x10 and body[:8] == b"\x00\x04MQTT\x04\xe6" and struct.unpack(">H", body[8:10])[0] == 30
    fields, at = [], 10
    while at < len(body):
        size = struct.unpack(">H", body[at : at + 2])[0]
        fields.append(body[at + 2 : at + 2 + size].decode())
        at += 2 + size
    assert fields == ["refuge-lamp", "refuge/lamp/state", "offline", "devices", "marmot"]
    _, plain = packets(client()["sent"])[0]
    assert plain[7] == 0x26


@pytest.mark.parametrize("qos", [0, 1])
def test_after_connack_it_subscribes_and_says_what_it_is(client, qos):
    sent = packets(client(CONNACK, qos=qos)["sent"])
    assert sent[1][0] == 0x82 and sent[1][1][2:].endswith(b"refuge/lamp/+/do/+" + bytes([qos]))
    said = [
        (first & 0xF1, body[2 : 2 + body[1]].decode(), body[2 + body[1] + 2 * qos :])
        for first, body in sent[2:]
    ]
    assert said == [(0x31, "refuge/lamp/state", b"online"), (0x31, "refuge/lamp/r/on", b"false")]


def test_a_refusal_ends_the_try(client):
    result = client(b"\x20\x02\x00\x05")
    assert result["closed"] and result["state"] == 0


def test_packets_in_every_cut_are_the_same_packets(client):
    """One stream of bytes, cut anywhere: byte by byte, in heaps, through the middle of the length."""
    long = publish("refuge/lamp/r/on/set", b" " * 100 + b"true")
    stream = (
        CONNACK
        + publish("refuge/lamp/r/on/set", b"true")
        + PINGRESP
        + publish("refuge/lamp/r/do/pulse", b"2", 1)
        + long
    )
    chance = random.Random(5)
    cuts = [[stream[n : n + 1] for n in range(len(stream))], [stream]]
    for _ in range(20):
        at = sorted(chance.sample(range(1, len(stream)), 6))
        cuts.append([stream[a:b] for a, b in zip([0, *at], [*at, len(stream)], strict=True)])
    for result in client(many=cuts):
        assert result["told"] == [["set", "on", True], ["do", "pulse", 2000], ["set", "on", True]], result
        assert result["state"] == ONLINE and b"\x40\x02\x00\x07" in result["sent"], "QoS 1 is acknowledged"


def test_what_leaves_in_pieces_arrives_whole(client):
    whole = client(CONNACK, qos=1)["sent"]
    for room in (1, 3, 7):
        assert client(CONNACK, qos=1, room=room, flush=400)["sent"] == whole


def test_the_other_side_closes(client):
    result = client(CONNACK, b"")
    assert result["closed"] and result["state"] == 0


@pytest.mark.parametrize("size", [300, 320, 400, 2_000, 17_000])
@pytest.mark.parametrize("qos", [0, 1])
def test_a_packet_too_long_goes_by(client, size, qos):
    """It is not kept, it is acknowledged and told, and what stands around it in the same bytes is obeyed."""
    around = publish("refuge/lamp/r/on/set", b"true")
    heaps = [[CONNACK + around + publish("refuge/lamp/r/on/set", b"x" * size, qos, 777) + around]]
    heaps.append([heaps[0][0][n : n + 7] for n in range(0, len(heaps[0][0]), 7)])
    for result in client(many=heaps):
        assert result["state"] == ONLINE and result["told"] == [["set", "on", True]] * 2
        assert (b"\x40\x02\x03\x09" in result["sent"]) == bool(qos) and "too long" in str(result["said"])


def test_a_retained_command_is_told_and_not_obeyed(client):
    heard = publish("refuge/lamp/r/on/set", b"true")
    result = client(CONNACK, bytes([heard[0] | 1]) + heard[1:], publish("refuge/lamp/r/on/set", b"false"))
    assert result["told"] == [["set", "on", False]] and "retained" in result["said"][0]


def test_a_password_without_a_user_is_left_out_and_told(client):
    """MQTT 3.1.1, section 3.1.2.9: the password flag needs the user flag."""
    result = client(password="marmot")
    _, body = packets(result["sent"])[0]
    assert body[7] == 0x26 and b"marmot" not in body and "password is left out" in result["said"][0]


def test_a_refused_subscription_is_told_and_shown(client):
    result = client(CONNACK, b"\x90\x04\x00\x01\x80\x80")
    assert result["state"] == ONLINE and "lets nobody command" in result["said"][0] and result["code"] == 3


STRANGE = [
    publish("refuge/lamp/r/on/set", b"tru"),
    publish("refuge/lamp/r/on/set", b"\xff\xfe"),
    publish("refuge/lamp/r/explode", b""),
    publish("refuge/lamp/r/do/explode", b""),
    publish("refuge/lamp/r/do/pulse", b'"soon"'),
    publish("refuge/lamp/q/on/set", b"true"),
    publish("refuge/lamp", b"true"),
    publish("x", b"true"),
]


@pytest.mark.parametrize("number", range(len(STRANGE)))
def test_what_makes_no_sense_is_noted_and_the_next_is_heard(client, number):
    result = client(CONNACK, STRANGE[number], publish("refuge/lamp/r/on/set", b"true"))
    assert result["state"] == ONLINE and result["told"][-1] == ["set", "on", True]
    assert result["said"] and result["said"][0].startswith("a message: not understood: ")


def test_every_message_has_a_number_of_its_own(client):
    sent = client(CONNACK, qos=1)["sent"]
    numbers = [struct.unpack(">H", body[2 + body[1] : 4 + body[1]])[0] for first, body in packets(sent)[2:]]
    assert len(set(numbers)) == 2 and 0 not in numbers


def test_random_bytes_never_break_the_client(client):
    chance = random.Random(11)
    heaps = [
        [CONNACK, bytes(chance.randrange(256) for _ in range(chance.randrange(1, 60)))] for _ in range(150)
    ]
    for result in client(many=heaps):
        assert result["state"] in (0, ONLINE)


@pytest.mark.parametrize(
    ("user", "password"),
    [("", ""), ("devices", ""), ("devicés", "marmot"), ("u" * 64, "p" * 64), ("u" * 150, "p" * 150)],
)
def test_the_desk_knows_how_long_the_greeting_is(client, user, password):
    """What check allows is sent, and what it refuses is not: the figure is the length of the CONNECT that the device makes."""
    room = int(re.search(r"_ROOM = const\((\d+)\)", runtime_source("mqtt", ""))[1])
    told, sent = (
        greeting("refuge/lamp", user, password),
        packets(client(user=user, password=password)["sent"]),
    )
    assert room == ROOM and bool(sent) == (told <= room)
    assert not sent or told == 3 + len(sent[0][1])


LIFE = """
import builtins
import mqtt

out = print
builtins.print = lambda *words: out("  says", *words)
now = [1000]


class Fixed:
    # What the client asks of time and chance.
    ticks_ms = staticmethod(lambda: now[0])
    ticks_diff = staticmethod(lambda a, b: a - b)
    getrandbits = staticmethod(lambda bits: 100)


mqtt.time = mqtt.random = Fixed


class Wire(Sock):
    # What leaves is shown at once; `room` bytes at a time, None where there is none.
    def write(self, data):
        count = min(self.room, len(data))
        if not count:
            return None
        out("  sends", bytes(data[:count]))
        return count


def show(what):
    if m.due:  # as the loop does at the end of a turn
        m.drain()
    out(what, "at", now[0], "state", m.state, "waiting", m.size, "queue", len(m.queue), "flight", len(m.flight), "again", m.again, "dropped", m.dropped + d.dropped, "pause", m.pause, [ms for ms, _ in d.timers], d.said, d.code)
    d.said.clear()


def meet(room=10000):
    d.timers.clear()
    m.timer = None
    m.sock = Wire([], room)
    m.state = 1
    m.heard = m.sent = now[0]
    m.ready(4)


def hears(data):
    m.sock.chunks.append(data)
    while m.sock and m.sock.chunks:
        m.ready(1)


d, part = Device(), Part()
d.dropped = 1
d.parts["r"] = part
m = mqtt.Mqtt(d, "h", 1883, "", "", QOS, 30000)
m.up = True
for _ in range(6):
    m.lost("refused")
    show("not reached")
meet()
show("called")
for later in (5999, 2):
    now[0] += later
    m.beat()
    show("greeted, no answer")
meet()
hears(b"\\x20\\x02\\x00\\x00")
show("online")
for n in range(10):
    m.send("notes", "note %d" % n)
show("ten notes")
for number in (3, 2, 9, 77):
    hears(bytes((0x40, 2, 0, number)))
show("some arrived")
for value in (True, True):
    part.on = value
    part.new |= 1
    m.value(part)
m.event(part, "pressed")
m.vitals(-60)
show("a value, an event, vitals")
for later in (14000, 1001, 14000, 16000, 14001):
    now[0] += later
    if m.state:
        m.beat()
    show("time goes by")
for n in range(30):
    m.send("notes", "kept %d" % n)
m.event(part, "held")
show("thirty while away")
d.uptime = lambda: 19
meet(60)
hears(b"\\x20\\x02\\x00\\x00")
show("back, with little room")
for _ in range(9):
    m.ready(4)
show("some more left")
m.sock.room = 10000
m.ready(4)
for number in range(1, 60):
    hears(bytes((0x40, 2, 0, number)))
show("all arrived")
m.send("notes", "x" * 700)
m.send("notes", "\\u00e9" * 300)
show("too long")
m.sock.room = 0
m.send("notes", "never leaves")
show("no room at all")
m.lost("reset")
show("lost with it")
m.send("notes", "spared")
m.spare()
show("spared")
m.call = lambda: out("  calls again")
for later in (30000, 29000, 1500):
    now[0] += later
    m.timer = None
    m.beat()
    show("forgotten")
m.end()
now[0] += 99000
m.beat()
show("ended")
"""


@pytest.mark.parametrize("qos", [0, 1])
def test_a_clients_life(qos):
    """Refused, greeted, online, full, silent, away, back with little room: every byte and every number of its state."""
    modules = {name: runtime_source(name, "esp32") for name in ("mqtt", "values")}
    classes = HARNESS[: HARNESS.index("def run(case)")]
    approve(f"mqtt-qos-{qos}", in_the_vm(f"QOS = {qos}\n{classes}{LIFE}", modules))
