"""The MQTT client's bytes: what it sends, and what it makes of packets that come in pieces, in heaps or broken.

The compiled client runs in the real VM with a socket made of lists.
"""

import json
import random
import struct
import subprocess
from pathlib import Path

import pytest

from zapato.firmware.compile import cache_folder, compile_all, runtime_source
from zapato.stage.vm import command

HARNESS = """
import json
import sys
sys.path.insert(0, "app")
import mqtt


class Poller:
    def register(self, *rest):
        pass

    modify = unregister = register


class Device:
    topic, version, name = "refuge/lamp", "1.0.0", "lamp"

    def __init__(self):
        self.poller = Poller()
        self.parts = {}
        self.said = []
        self.code = None
        self.timers = []

    def after(self, ms, call):
        self.timers.append((ms, call))
        return self.timers[-1]

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
    on = False

    def __init__(self):
        self.told = []

    def set(self, name, value):
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

    def recv(self, size):
        return self.chunks.pop(0)

    def send(self, data):
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
    m.state = mqtt.CALLING
    m.ready(4)
    for _ in case["chunks"]:
        m.ready(1)
    for _ in range(case["flush"]):
        m.ready(4)
    return {"sent": list(sock.sent), "told": part.told, "said": d.said, "state": m.state, "closed": sock.closed, "flight": len(m.flight)}


import builtins
builtins.print, out = (lambda *words: None), print
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
def client(tmp_path: Path):
    """Run cases through the client; each gives what was sent, told, noted, and the state it is left in."""
    (tmp_path / "app").mkdir()
    for name, data in compile_all({"mqtt": runtime_source("mqtt", "esp32")}, cache_folder()).items():
        (tmp_path / "app" / f"{name}.mpy").write_bytes(data)
    (tmp_path / "harness.py").write_text(HARNESS)

    def run(*chunks: bytes, qos: int = 0, user: str = "", password: str = "", room: int = 10_000, flush: int = 0, many=None):
        given = many or [chunks]
        cases = [
            {"chunks": [list(c) for c in each], "qos": qos, "user": user, "password": password, "room": room, "flush": flush}
            for each in given
        ]
        (tmp_path / "cases.json").write_text(json.dumps(cases))
        done = subprocess.run([*command(), "harness.py"], cwd=tmp_path, capture_output=True, text=True, timeout=30)
        assert done.returncode == 0 and len(done.stdout.splitlines()) == len(cases), done.stdout + done.stderr
        results = [json.loads(line) for line in done.stdout.splitlines()]
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
    said = [(first & 0xF1, body[2 : 2 + body[1]].decode(), body[2 + body[1] + 2 * qos :]) for first, body in sent[2:]]
    assert said == [(0x31, "refuge/lamp/state", b"online"), (0x31, "refuge/lamp/r/on", b"false")]


def test_a_refusal_ends_the_try(client):
    result = client(b"\x20\x02\x00\x05")
    assert result["closed"] and result["state"] == 0


def test_packets_in_every_cut_are_the_same_packets(client):
    """One stream of bytes, cut anywhere: byte by byte, in heaps, through the middle of the length."""
    long = publish("refuge/lamp/r/on/set", b" " * 300 + b"true")
    stream = CONNACK + publish("refuge/lamp/r/on/set", b"true") + PINGRESP + publish("refuge/lamp/r/do/pulse", b"2", 1) + long
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


BROKEN = {
    "a packet that is too large": publish("refuge/lamp/r/on/set", b"x" * 2000),
    "the other side closes": b"",
}


@pytest.mark.parametrize("name", BROKEN)
def test_what_cannot_be_read_ends_the_connection(client, name):
    result = client(CONNACK, BROKEN[name])
    assert result["closed"] and result["state"] == 0


STRANGE = [
    publish("refuge/lamp/r/on/set", b"{"),
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
    assert result["said"] and result["said"][0].startswith("not understood: ")


def test_acknowledged_messages_leave_the_flight(client):
    before = client(CONNACK, qos=1)
    numbers = [struct.unpack(">H", body[2 + body[1] : 4 + body[1]])[0] for first, body in packets(before["sent"])[2:]]
    assert before["flight"] == 2 and len(set(numbers)) == 2
    acknowledged = b"".join(b"\x40\x02" + struct.pack(">H", n) for n in numbers)
    assert client(CONNACK, acknowledged, qos=1)["flight"] == 0


def test_random_bytes_never_break_the_client(client):
    chance = random.Random(11)
    heaps = [[CONNACK, bytes(chance.randrange(256) for _ in range(chance.randrange(1, 60)))] for _ in range(150)]
    for result in client(many=heaps):
        assert result["state"] in (0, ONLINE)
