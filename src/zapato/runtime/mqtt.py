# A non-blocking MQTT 3.1.1 client (OASIS standard, 29 October 2014): QoS 0 and 1, will, keep-alive.
import errno
import gc
import json
import random
import select
import socket
import struct
import time

KEPT = 24  # messages kept while the broker is away; older ones are dropped and counted
FLIGHT = 8  # QoS 1 messages that may wait for their acknowledgement at once
FULL = 2048  # bytes waiting to leave; beyond this, messages wait in the queue
LARGEST = 1024  # bytes of an incoming packet
BEAT = 5000  # ms between looks at the connection's health
LONGEST = 60000  # ms between two tries at the most

AWAY, CALLING, GREETING, ONLINE = 0, 1, 2, 3


def text(value):
    data = value.encode() if isinstance(value, str) else value
    return struct.pack(">H", len(data)) + data


def packet(kind, body):
    size = len(body)
    head = bytearray([kind])
    while True:
        low = size & 127
        size >>= 7
        head.append(low | 128 if size else low)
        if not size:
            return bytes(head) + body


class Mqtt:
    def __init__(self, d, host, port, user, password, qos, keep):
        self.d = d
        self.address = (host, port)
        self.user = user
        self.password = password
        self.qos = qos
        self.keep = keep
        self.state = AWAY
        self.up = False
        self.sock = None
        self.timer = None
        self.pause = 1000
        self.out = bytearray()
        self.into = bytearray()
        self.queue = []
        self.fresh = []
        self.flight = []
        self.number = 0
        self.dropped = 0
        self.heard = 0
        self.sent = 0

    # --- the connection

    def begin(self):
        self.up = True
        self.call()

    def end(self):
        self.up = False
        self.close()

    def call(self):
        try:
            address = socket.getaddrinfo(self.address[0], self.address[1])[0][-1]
            self.sock = socket.socket()
            self.sock.setblocking(False)
            try:
                self.sock.connect(address)
            except OSError as error:
                if error.errno != errno.EINPROGRESS:
                    raise
        except OSError as error:
            self.lost(error)
            return
        self.state = CALLING
        self.heard = time.ticks_ms()
        self.d.poller.register(self.sock, select.POLLIN | select.POLLOUT)
        self.d.cancel(self.timer)
        self.timer = self.d.after(BEAT, self.beat)

    def close(self):
        self.d.cancel(self.timer)
        self.timer = None
        if self.sock:
            self.d.poller.unregister(self.sock)
            self.sock.close()
            self.sock = None
        self.out = bytearray()
        self.into = bytearray()
        self.state = AWAY

    def lost(self, why):
        if self.state == ONLINE:
            print("broker lost:", why)
            self.d.status(1)
        self.close()
        if self.up:
            self.timer = self.d.after(self.pause + random.getrandbits(9), self.call)
            self.pause = min(self.pause * 2, LONGEST)

    def beat(self):
        self.timer = self.d.after(BEAT, self.beat)
        now = time.ticks_ms()
        silence = time.ticks_diff(now, self.heard)
        if silence > (self.keep * 3 // 2 if self.state == ONLINE else 10000):
            self.lost("silence")
        elif self.state == ONLINE and max(silence, time.ticks_diff(now, self.sent)) > self.keep * 3 // 4:
            self.write(b"\xc0\x00")
            self.sent = now

    # --- bytes

    def ready(self, flags):
        if self.sock is None:
            return
        try:
            if flags & (select.POLLERR | select.POLLHUP) and not flags & select.POLLIN:
                raise OSError(errno.ECONNRESET)
            if self.state == CALLING and flags & select.POLLOUT:
                self.state = GREETING
                self.greet()
            elif flags & select.POLLOUT:
                self.flush()
                self.drain()
            if flags & select.POLLIN:
                self.take()
        except (OSError, ValueError, IndexError) as error:  # the last two: bytes that are no packet
            self.lost(error)

    def write(self, data):
        self.out.extend(data)
        try:
            self.flush()
        except OSError as error:
            self.lost(error)

    def flush(self):
        while self.out and self.sock:
            try:
                count = self.sock.send(self.out)
            except OSError as error:
                if error.errno != errno.EAGAIN:
                    raise
                count = 0
            if not count:
                break
            self.out = self.out[count:]
            self.sent = time.ticks_ms()
        if self.sock:
            self.d.poller.modify(self.sock, select.POLLIN | select.POLLOUT if self.out else select.POLLIN)

    def take(self):
        if not self.sock:
            return
        try:
            data = self.sock.recv(512)
        except OSError as error:
            if error.errno == errno.EAGAIN:
                return
            raise
        if not data:
            raise OSError(errno.ECONNRESET)
        self.heard = time.ticks_ms()
        self.into.extend(data)
        while self.sock and self.parse():
            pass

    def parse(self):
        # One whole packet from what has come in; False where none is whole yet.
        size, shift, at = 0, 0, 1
        while True:
            if at >= len(self.into):
                return False
            byte = self.into[at]
            size |= (byte & 127) << shift
            shift += 7
            at += 1
            if not byte & 128:
                break
        if size > LARGEST:
            raise OSError(errno.EINVAL)
        if len(self.into) < at + size:
            return False
        kind, body = self.into[0], bytes(self.into[at : at + size])
        self.into = self.into[at + size :]
        self.packet(kind, body)
        return True

    # --- packets

    def greet(self):
        flags = 0x02 | 0x04 | 0x20 | (0x80 if self.user else 0) | (0x40 if self.password else 0)
        body = text("MQTT") + bytes([4, flags]) + struct.pack(">H", self.keep // 1000)
        body += text(self.d.topic.replace("/", "-")) + text(self.d.topic + "/state") + text("offline")
        if self.user:
            body += text(self.user)
        if self.password:
            body += text(self.password)
        self.write(packet(0x10, body))

    def packet(self, kind, body):
        high = kind & 0xF0
        if high == 0x20:
            if body[1]:
                raise OSError("refused by the broker, code %d" % body[1])
            self.online()
        elif high == 0x30:
            self.message(kind, body)
        elif high == 0x40:
            number = struct.unpack(">H", body)[0]
            self.flight = [each for each in self.flight if each[0] != number]
            self.drain()

    def online(self):
        self.state = ONLINE
        self.pause = 1000
        print("broker reached")
        self.d.status(2)
        topic = self.d.topic
        filters = text(topic + "/+/+/set") + bytes([self.qos]) + text(topic + "/+/do/+") + bytes([self.qos])
        self.write(packet(0x82, struct.pack(">H", self.next()) + filters))
        for each in self.flight:
            self.write(bytes([each[1][0] | 8]) + each[1][1:])
        self.publish("state", "online", True)
        self.fresh = [(part, name) for part in self.d.parts.values() for name in part.props]
        self.drain()

    def next(self):
        self.number = self.number % 65535 + 1
        return self.number

    def message(self, kind, body):
        size = struct.unpack(">H", body)[0]
        topic = body[2 : 2 + size].decode()
        at = 2 + size
        if kind & 6:
            self.write(b"\x40\x02" + body[at : at + 2])
            at += 2
        try:
            self.obey(topic[len(self.d.topic) + 1 :].split("/"), body[at:])
        except (ValueError, TypeError, KeyError) as error:
            self.d.note("not understood: " + topic + " " + str(error))

    def obey(self, way, payload):
        part = self.d.parts[way[0]]
        value = json.loads(payload) if payload else None
        if len(way) == 3 and way[2] == "set" and way[1] in part.sets:
            part.set(way[1], value)
        elif len(way) == 3 and way[1] == "do":
            given = [] if value is None or value == {} else value if isinstance(value, list) else [value]
            if way[2] in part.timed and given:
                given[-1] = int(given[-1] * 1000)
            if not part.do(way[2], *given):
                raise ValueError("no such action")
        else:
            raise ValueError("no such property")

    # --- what the device says

    def value(self, part, name):
        # Only the newest value counts, so a property waits as a name, not as a message.
        if self.state == ONLINE and (part, name) not in self.fresh:
            self.fresh.append((part, name))
            self.drain()

    def vitals(self, signal):
        d = self.d
        row = {"uptime": d.uptime(), "signal": signal, "heap": gc.mem_free(), "version": d.version, "dropped": self.dropped}
        if self.state == ONLINE:
            self.send("vitals", json.dumps(row), False)

    def send(self, topic, payload, retain):
        if len(self.queue) >= KEPT:
            self.queue.pop(0)
            self.dropped += 1
        self.queue.append((topic, payload, retain))
        self.drain()

    def drain(self):
        while self.state == ONLINE and len(self.out) < FULL:
            if self.qos and len(self.flight) >= FLIGHT:
                return
            if self.queue:
                self.publish(*self.queue.pop(0))
            elif self.fresh:
                part, name = self.fresh.pop(0)
                self.publish(part.name + "/" + name, json.dumps(getattr(part, name)), True)
            else:
                return

    def publish(self, topic, payload, retain):
        body = text(self.d.topic + "/" + topic)
        if self.qos:
            number = self.next()
            body += struct.pack(">H", number)
        made = packet(0x30 | self.qos << 1 | retain, body + payload.encode())
        if self.qos:
            self.flight.append((number, made))
        self.write(made)
