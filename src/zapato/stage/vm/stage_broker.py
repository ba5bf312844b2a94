# A broker in the VM that speaks MQTT 3.1.1 in bytes, for one device.
import struct

import stage_clock
from stage_log import log


def text(data, at):
    size = struct.unpack(">H", data[at : at + 2])[0]
    return data[at + 2 : at + 2 + size], at + 2 + size


def matches(filter, topic):
    want, have = filter.split("/"), topic.split("/")
    for index, level in enumerate(want):
        if level == "#":
            return True
        if index >= len(have) or level not in ("+", have[index]):
            return False
    return len(want) == len(have)


class Hub:
    def __init__(self):
        self.retained = {}
        self.session = None
        self.seen = []  # topic and payload of what was published since the last step

    def publish(self, topic, payload, retain, device=True):
        if retain:
            if payload:
                self.retained[topic] = payload
            else:
                self.retained.pop(topic, None)
        if device:
            self.seen.append((topic, payload))
            if len(self.seen) > 60:
                self.seen.pop(0)
            log("mqtt", topic, payload, retain=bool(retain))
        if self.session:
            self.session.offer(topic, payload, False)

    def message(self, topic, payload):
        log("message", topic, payload)
        self.publish(topic, payload, False, False)


hub = Hub()


class Session:
    def __init__(self, wire):
        self.wire = wire
        self.data = bytearray()
        self.filters = []
        self.will = None
        self.keep = 0
        self.heard = stage_clock.now
        self.number = 0
        self.live = True

    def feed(self, data):
        self.heard = stage_clock.now
        self.data.extend(data)
        while self.live:
            size, shift, at = 0, 0, 1
            while at < len(self.data):
                byte = self.data[at]
                size |= (byte & 127) << shift
                shift += 7
                at += 1
                if not byte & 128:
                    break
            else:
                return
            if len(self.data) < at + size:
                return
            kind, body = self.data[0], bytes(self.data[at : at + size])
            self.data = self.data[at + size :]
            self.packet(kind, body)

    def packet(self, kind, body):
        high = kind & 0xF0
        if high == 0x10:
            self.connect(body)
        elif high == 0x30:
            self.published(kind, body)
        elif high == 0x80:
            self.subscribe(body)
        elif high == 0xC0:
            self.wire.deliver(b"\xd0\x00")
        elif high == 0xE0:
            self.will = None
            self.closed()

    def connect(self, body):
        name, at = text(body, 0)
        if name != b"MQTT" or body[at] != 4:
            self.wire.deliver(b"\x20\x02\x00\x01")
            return
        flags, self.keep = body[at + 1], struct.unpack(">H", body[at + 2 : at + 4])[0]
        client, at = text(body, at + 4)
        if flags & 4:
            topic, at = text(body, at)
            payload, at = text(body, at)
            self.will = (topic.decode(), payload.decode(), flags & 0x20)
        if hub.session:
            hub.session.lapse()
        hub.session = self
        log("net", "session", client.decode())
        self.wire.deliver(b"\x20\x02\x00\x00")
        if self.keep:
            stage_clock.after(self.keep * 1500, self.watch)

    def watch(self):
        # No packet for one and a half times the keep-alive: the client counts as gone (3.1.2.10).
        if not self.live:
            return
        left = self.heard + self.keep * 1500 - stage_clock.now
        if left > 0:
            stage_clock.after(left, self.watch)
        else:
            self.lapse()

    def published(self, kind, body):
        topic, at = text(body, 0)
        if kind & 6:
            self.wire.deliver(b"\x40\x02" + body[at : at + 2])
            at += 2
        hub.publish(topic.decode(), body[at:].decode(), kind & 1)

    def subscribe(self, body):
        number, at, codes = body[:2], 2, b""
        while at < len(body):
            name, at = text(body, at)
            self.filters.append((name.decode(), body[at] & 1))
            codes += bytes([body[at] & 1])
            at += 1
        self.wire.deliver(b"\x90" + bytes([2 + len(codes)]) + number + codes)
        for topic, payload in hub.retained.items():
            self.offer(topic, payload, True)

    def offer(self, topic, payload, retained):
        for filter, qos in self.filters:
            if matches(filter, topic):
                head = topic.encode()
                body = struct.pack(">H", len(head)) + head
                if qos:
                    self.number = self.number % 65535 + 1
                    body += struct.pack(">H", self.number)
                body += payload.encode()
                size = bytes([len(body)]) if len(body) < 128 else bytes([len(body) & 127 | 128, len(body) >> 7])
                self.wire.deliver(bytes([0x30 | qos << 1 | retained]) + size + body)
                return

    def silent(self):
        pass

    def closed(self):
        self.lapse()

    def lapse(self):
        if not self.live:
            return
        self.live = False
        if hub.session is self:
            hub.session = None
        if self.will:
            hub.publish(*self.will)
        self.wire.broken()
