"""What the hub keeps up with: thousands of devices, thousands of messages a second with QoS 1, and its page meanwhile.

usage: python benchmarks/hub_load.py [DEVICES [MESSAGES_A_SECOND [SECONDS]]]

A mosquitto on this machine, a publisher that speaks MQTT by itself (so that it takes little of the processor), the hub in a
process of its own with its history on the disk. Ends with 1 where a message is lost or the page is later than 200 ms.
"""

from __future__ import annotations

import http.client
import json
import multiprocessing
import resource
import socket
import struct
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass
from multiprocessing.connection import Connection
from pathlib import Path
from statistics import median

LATE = 0.2
"""s that the page may take."""
STILL = 10.0
"""s without a message after which none is expected any more."""
VALUES = 5
"""Numbers that each device has."""
CONFIGURATION = (
    "listener {port} 127.0.0.1\nallow_anonymous true\nmax_queued_messages 0\nmax_inflight_messages 0\n"
)


def main(words: list[str]) -> int:
    usual = (10_000, 5_000, 60)
    devices, rate, seconds = (int(each) for each in (*words, *usual[len(words) :]))
    with tempfile.TemporaryDirectory() as name, broker(Path(name)) as port:
        return int(not run(Path(name), port, devices, rate, seconds).good)


class broker:
    """A mosquitto that queues without bound."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def __enter__(self) -> int:
        with socket.create_server(("127.0.0.1", 0)) as taken:
            port = taken.getsockname()[1]
        file = self.folder / "mosquitto.conf"
        file.write_text(CONFIGURATION.format(port=port))
        self.process = subprocess.Popen(["mosquitto", "-c", str(file)], stderr=subprocess.DEVNULL)
        until = time.monotonic() + 10
        while True:
            try:
                socket.create_connection(("127.0.0.1", port)).close()
                return port
            except OSError:
                if time.monotonic() > until:
                    raise
                time.sleep(0.05)

    def __exit__(self, *_: object) -> None:
        self.process.terminate()
        self.process.wait()


def hub(folder: Path, port: int, pipe: Connection) -> None:
    """The hub in a process of its own; tells its page's port, and at the end what it kept."""
    from zapato.hub import History, Service
    from zapato.hub.service import alone
    from zapato.hub.web import Page

    alone()
    history = History(folder / "h.sqlite")
    service = Service(("127.0.0.1", port), history)
    service.start()
    page = Page(service, "0")
    page.start()
    pipe.send(page.port)
    while (asked := pipe.recv()) != "end":
        used = resource.getrusage(resource.RUSAGE_SELF)
        took = used.ru_utime + used.ru_stime
        pipe.send((len(service.hub.things), service.count) if asked == "count" else (took, used.ru_maxrss))
    page.stop()
    service.stop()
    rows = history._store.rows("SELECT count(*) FROM said JOIN names ON names.id = said.name WHERE names.name LIKE '%.v_.value'")  # fmt: skip
    pipe.send((rows[0][0], (folder / "h.sqlite").stat().st_size, service.odd, service.trouble))
    history.close()


class Speaker:
    """An MQTT client that only publishes (MQTT 3.1.1, section 3.3), as cheaply as can be."""

    def __init__(self, port: int) -> None:
        self.socket = socket.create_connection(("127.0.0.1", port))
        name = b"bench"
        body = b"\0\4MQTT\4\2\0\0" + struct.pack(">H", len(name)) + name
        self.socket.sendall(b"\x10" + bytes((len(body),)) + body)
        self.socket.recv(4)
        self.number = self.acknowledged = 0
        threading.Thread(target=self._listen, daemon=True).start()

    def _listen(self) -> None:
        left = 0
        while data := self.socket.recv(1 << 16):
            left += len(data)
            self.acknowledged += left // 4
            left %= 4

    def publish(self, messages: list[tuple[bytes, bytes]], retain: bool = False) -> None:
        made = bytearray()
        for topic, payload in messages:
            self.number = self.number % 65535 + 1
            body = struct.pack(">H", len(topic)) + topic + struct.pack(">H", self.number) + payload
            made += bytes((0x32 | retain,)) + _length(len(body)) + body
        self.socket.sendall(made)


def _length(size: int) -> bytes:
    found = bytearray()
    while True:
        size, digit = divmod(size, 128)
        found.append(digit | (128 if size else 0))
        if not size:
            return bytes(found)


def about(name: str) -> bytes:
    """The description of a device with a few numbers (W3C Thing Description 1.1)."""
    properties = {
        f"v{n}.value": {
            "title": f"Value {n}", "type": "number", "readOnly": True,
            "forms": [{"op": ["readproperty", "observeproperty"], "mqv:filter": f"refuge/{name}/v{n}/value", "href": "mqtt://b"}],
        }
        for n in range(VALUES)
    }  # fmt: skip
    text = {"op": ["readproperty"], "mqv:filter": f"refuge/{name}/state", "href": "mqtt://b"}
    properties["state"] = {"title": "State", "type": "string", "readOnly": True, "forms": [text]}
    return json.dumps(
        {"@context": ["https://www.w3.org/2022/wot/td/v1.1"], "title": name, "properties": properties}
    ).encode()


@dataclass
class Told:
    """What a run showed: s until all devices were found, messages lost, the hub's share of a core, s that each look at the page took."""

    found: float
    lost: int
    core: float
    waits: list[float]

    @property
    def good(self) -> bool:
        return not self.lost and max(self.waits) <= LATE


def run(folder: Path, port: int, devices: int, rate: int, seconds: int) -> Told:
    mine, theirs = multiprocessing.Pipe()
    process = multiprocessing.get_context("spawn").Process(target=hub, args=(folder, port, theirs))
    process.start()
    page = mine.recv()
    speaker, names = Speaker(port), [f"device-{n:05}" for n in range(devices)]
    begun = time.monotonic()
    for at in range(0, devices, 100):
        speaker.publish(
            [(f"refuge/{name}/about".encode(), about(name)) for name in names[at : at + 100]], True
        )
    speaker.publish([(f"refuge/{name}/state".encode(), b"online") for name in names], True)
    while (found := asked(mine, "count"))[0] < devices and time.monotonic() - begun < 300:
        time.sleep(0.1)
    until_found = time.monotonic() - begun
    print(f"{found[0]:,} devices found after {until_found:.1f} s")
    speaker.publish([(f"refuge/{name}/state".encode(), b"online") for name in names], True)
    time.sleep(2)
    before, waits = asked(mine, "cost"), []
    sent = 0
    looking = threading.Thread(target=look, args=(page, waits, seconds), daemon=True)
    looking.start()
    values = messages(names)
    begun = time.monotonic()
    while (passed := time.monotonic() - begun) < seconds:
        due = int(passed * rate) - sent
        if due > 0:
            speaker.publish([next(values) for _ in range(min(due, 500))])
            sent += min(due, 500)
        else:
            time.sleep(0.005)
    behind = time.monotonic()
    looking.join(30)
    counted, since = -1, time.monotonic()
    while time.monotonic() - since < STILL:  # a hub that is behind may stand still for a moment
        now = asked(mine, "count")[1]
        if now != counted:
            counted, since = now, time.monotonic()
        time.sleep(0.2)
    late = max(0.0, since - behind)
    took, size = asked(mine, "cost")
    mine.send("end")
    kept, bytes_, odd, trouble = mine.recv()
    process.join()
    slow = max(waits, default=9.0)
    print(
        f"{sent:,} messages in {seconds} s, {sent / seconds:,.0f} a second; kept {kept:,}, {sent - kept:,} lost; done {late:.1f} s after the last"
    )
    print(
        f"the hub: {(took - before[0]) / seconds:.0%} of a core, {size / 1024:.0f} MB; history {bytes_ / 1e6:.0f} MB {odd} {trouble}"
    )
    print(
        f"its page: {median(waits) * 1000:.0f} ms in the middle, {slow * 1000:.0f} ms at the most of {len(waits)} looks (limit {LATE * 1000:.0f} ms)"
    )
    return Told(until_found, sent - kept, (took - before[0]) / seconds, waits or [slow])


def asked(pipe: Connection, word: str) -> tuple[float, float]:
    pipe.send(word)
    return pipe.recv()


def messages(names: list[str]) -> Iterator[tuple[bytes, bytes]]:
    """One value after the other, never twice the same."""
    n = 0
    while True:
        for name in names:
            n += 1
            yield f"refuge/{name}/v{n % VALUES}/value".encode(), str(n).encode()


def look(port: int, waits: list[float], seconds: int) -> None:
    """Ask for the page's data now and then, as somebody does who turns its pages and looks for names."""
    until, number = time.monotonic() + seconds, 0
    while time.monotonic() < until:
        number += 1
        path = f"/things?page={number % 20}" if number % 3 else f"/things?find=device-0{number % 100:02}"
        begun = time.monotonic()
        way = http.client.HTTPConnection("127.0.0.1", port, timeout=30)
        way.request("GET", path)
        way.getresponse().read()
        waits.append(time.monotonic() - begun)
        if waits[-1] > LATE:
            print(f"the page took {waits[-1] * 1000:.0f} ms, {until - begun:.0f} s before the end")
        way.close()
        time.sleep(0.5)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
