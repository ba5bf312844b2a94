"""A broker that speaks MQTT 3.1.1 in bytes (OASIS standard, 29 October 2014), for the devices of a stage."""

from __future__ import annotations

import struct
from collections import deque
from collections.abc import Callable
from functools import partial
from typing import Any

from zapato.simulator.clock import Clock
from zapato.simulator.network import SocketPeer, TcpSocket
from zapato.simulator.trace import Trace

KEPT = 60
"""Messages that `published()` can look back on."""


def _text(data: bytes, at: int) -> tuple[bytes, int]:
    size = int.from_bytes(data[at : at + 2], "big")
    return data[at + 2 : at + 2 + size], at + 2 + size


def _string(data: bytes) -> bytes:
    return struct.pack(">H", len(data)) + data


def packet(kind: int, body: bytes) -> bytes:
    """A whole packet: its kind, its remaining length (2.2.3), its body."""
    size, head = len(body), bytearray([kind])
    while True:
        size, low = size >> 7, size & 127
        head.append(low | (128 if size else 0))
        if not size:
            return bytes(head) + body


def matches(filter: str, topic: str) -> bool:
    """Whether a topic filter takes a topic (4.7)."""
    want, have = filter.split("/"), topic.split("/")
    for index, level in enumerate(want):
        if level == "#":
            return True
        if index >= len(have) or level not in ("+", have[index]):
            return False
    return len(want) == len(have)


class Broker:
    """Takes connections, keeps what is retained, passes messages on.

    Attributes:
        up: False refuses every connection.
        silent: True takes connections and bytes and never answers.
        refuses: the return code of CONNACK (3.2.2.3), 0 to accept.
        denies: True answers every subscription with failure (3.9.3).
        seen: topic and payload of what devices published since the last act.
    """

    def __init__(self, clock: Clock, trace: Trace, most: int = KEPT) -> None:
        self.clock, self.trace = clock, trace
        self.up, self.silent, self.denies, self.refuses = True, False, False, 0
        self.retained: dict[str, bytes] = {}
        self.sessions: dict[str, Session] = {}
        self.seen: deque[tuple[str, str]] = deque(maxlen=most)
        self.listeners: list[Callable[[str, bytes], None]] = []
        """Hear what devices publish, as other clients would."""

    def be(self, word: str, value: Any) -> None:
        """Be another way: "up", "silent", "refuses", "denies", or "close" every connection."""
        if word == "up":
            self.set(value)
        elif word == "close":
            self.close_all()
        else:
            setattr(self, word, value)

    def set(self, up: bool) -> None:
        """The broker's process ends (with it what it remembers of sessions and wills), or starts."""
        self.up = up
        self.trace.log("net", "broker", up)
        if not up:
            for session in list(self.sessions.values()):
                session.forget()

    def close_all(self) -> None:
        """Every connection is ended by the broker."""
        for session in list(self.sessions.values()):
            session.lapse()

    def accept(self, wire: TcpSocket) -> SocketPeer | None:
        return Session(self, wire) if self.up else None

    def publish(self, topic: str, payload: bytes, retain: bool) -> None:
        """A message of a device."""
        text = payload.decode("utf-8", "replace")
        self.seen.append((topic, text))
        self.trace.log("mqtt", topic, text, retain=retain)
        for hear in self.listeners:
            self.clock.after(1, partial(hear, topic, payload))
        self._spread(topic, payload, retain)

    def message(self, topic: str, payload: str | bytes, retain: bool = False) -> None:
        """A message of somebody else."""
        data = payload.encode() if isinstance(payload, str) else payload
        text = data.decode("utf-8", "replace")
        self.trace.log("message", topic, text)
        if not retain and not any(session.takes(topic) for session in self.sessions.values()):
            self.trace.log("lost", topic, text)
        self._spread(topic, data, retain)

    def _spread(self, topic: str, payload: bytes, retain: bool) -> None:
        if retain and payload:
            self.retained[topic] = payload
        elif retain:
            self.retained.pop(topic, None)
        for session in list(self.sessions.values()):
            session.offer(topic, payload, False)


class Session:
    """One client's connection."""

    def __init__(self, broker: Broker, wire: TcpSocket) -> None:
        self.broker, self.wire, self.clock = broker, wire, broker.clock
        self.data = bytearray()
        self.filters: list[tuple[str, int]] = []
        self.will: tuple[str, bytes, bool] | None = None
        self.client, self.keep, self.number = "", 0, 0
        self.heard = self.clock.now
        self.live = True

    def feed(self, data: bytes) -> None:
        if self.broker.silent:
            return
        self.heard = self.clock.now
        self.data.extend(data)
        while self.live and (message := self._first()):
            self._packet(*message)

    def _first(self) -> tuple[int, bytes] | None:
        """The first whole packet of what came in, taken out of it."""
        size, shift = 0, 0
        for at, byte in enumerate(self.data[1:5], 2):
            size |= (byte & 127) << shift
            shift += 7
            if not byte & 128:
                if len(self.data) < at + size:
                    return None
                kind, body = self.data[0], bytes(self.data[at : at + size])
                del self.data[: at + size]
                return kind, body
        return None

    def _packet(self, kind: int, body: bytes) -> None:
        high = kind & 0xF0
        if high == 0x10:
            self._connect(body)
        elif high == 0x30:
            self._published(kind, body)
        elif high == 0x80:
            self._subscribe(body)
        elif high == 0xC0:
            self.wire.deliver(b"\xd0\x00")
        elif high == 0xE0:
            self.will = None
            self.lapse()

    def _connect(self, body: bytes) -> None:
        name, at = _text(body, 0)
        flags = body[at + 1]
        wrong = 1 if name != b"MQTT" or body[at] != 4 else self.broker.refuses
        if flags & 0x40 and not flags & 0x80:
            self.lapse()  # a password without a user is no packet of this version (3.1.2.9)
            return
        if wrong:
            self.wire.deliver(bytes([0x20, 2, 0, wrong]))
            self.clock.after(50, self.lapse)
            return
        self.keep = int.from_bytes(body[at + 2 : at + 4], "big")
        client, at = _text(body, at + 4)
        if flags & 4:
            topic, at = _text(body, at)
            payload, at = _text(body, at)
            self.will = (topic.decode("utf-8", "replace"), payload, bool(flags & 0x20))
        self.client = client.decode("utf-8", "replace")
        if before := self.broker.sessions.get(self.client):
            before.lapse()
        self.broker.sessions[self.client] = self
        self.broker.trace.log("net", "session", self.client)
        self.wire.deliver(b"\x20\x02\x00\x00")
        if self.keep:
            self.clock.after(self.keep * 1500, self._watch)

    def _watch(self) -> None:
        """No packet for one and a half times the keep-alive: the client counts as gone (3.1.2.10)."""
        if not self.live:
            return
        left = self.heard + self.keep * 1500 - self.clock.now
        if left > 0:
            self.clock.after(left, self._watch)
        else:
            self.lapse()

    def _published(self, kind: int, body: bytes) -> None:
        topic, at = _text(body, 0)
        if kind & 6:
            self.wire.deliver(b"\x40\x02" + body[at : at + 2])
            at += 2
        self.broker.publish(topic.decode("utf-8", "replace"), body[at:], bool(kind & 1))

    def _subscribe(self, body: bytes) -> None:
        number, at, codes = body[:2], 2, b""
        fresh: list[tuple[str, int]] = []
        while at < len(body):
            name, at = _text(body, at)
            fresh.append((name.decode("utf-8", "replace"), body[at] & 1))
            codes += b"\x80" if self.broker.denies else bytes([body[at] & 1])
            at += 1
        self.wire.deliver(packet(0x90, number + codes))
        if self.broker.denies:
            return
        self.filters += fresh
        for topic, payload in self.broker.retained.items():
            self.offer(topic, payload, True)

    def offer(self, topic: str, payload: bytes, retained: bool) -> None:
        """Pass a message on where a filter takes it."""
        for filter, qos in self.filters:
            if matches(filter, topic):
                body = _string(topic.encode())
                if qos:
                    self.number = self.number % 65535 + 1
                    body += struct.pack(">H", self.number)
                self.wire.deliver(packet(0x30 | qos << 1 | retained, body + payload))
                return

    def takes(self, topic: str) -> bool:
        """Whether a subscription of the client matches the topic."""
        return any(matches(filter, topic) for filter, _ in self.filters)

    def closed(self) -> None:
        """The device closed the connection without a word."""
        self.lapse()

    def forget(self) -> None:
        """The broker is gone, and with it the will."""
        self.will = None
        self.lapse()

    def lapse(self) -> None:
        """The session ends; its will is published."""
        if not self.live:
            return
        self.live = False
        if self.broker.sessions.get(self.client) is self:
            del self.broker.sessions[self.client]
        if self.will:
            self.broker.publish(*self.will)
        self.wire.hang_up()
