# A non-blocking MQTT 3.1.1 client (OASIS standard, 29 October 2014): QoS 0 and 1, will, keep-alive.
from micropython import const
import errno
import json
import random
import select
import socket
import time

from values import number

_KEPT = const(24)  # messages kept while the broker is away; older ones are dropped and counted
_FLIGHT = const(8)  # QoS 1 messages that may wait for their acknowledgement at once
_ROOM = const(384)  # bytes waiting to leave at the most
_LARGEST = const(320)  # bytes of an incoming packet; a longer one is passed over
_SHORT = const(128)  # bytes of a payload: values and arguments are shorter
_PATIENCE = const(6000)  # ms until an answer to the greeting
_FORGOTTEN = const(60000)  # ms without a connection and without a next try
_LONGEST = const(8000)  # ms between two tries at the most

_AWAY = const(0)
_CALLING = const(1)
_GREETING = const(2)
_ONLINE = const(3)
_OUT = bytearray(_ROOM)  # made while the free memory is in one piece
_VIEW = memoryview(_OUT)


class Mqtt:
    def __init__(self, d, host, port, user, password, qos, keep, names=None):
        self.d = d
        self.names = names
        self.address = (host, port)
        self.qos = qos
        self.keep = keep
        self.state = _AWAY
        self.up = False
        self.sock = None
        self.timer = None
        self.pause = 1000
        self.trouble = None  # what was told last about not getting through
        self.size = 0  # bytes in _OUT
        self.waits = False  # the socket is to tell when it takes more
        self.news = 0  # messages among them that are gone if the connection is
        self.into = memoryview(bytearray(_LARGEST))
        self.got = 0  # bytes in into
        self.over = 0  # bytes of a packet too long to be kept that are still to come
        self.due = False  # something was noted that has not been said yet
        self.queue = []
        self.fresh = []  # parts with values to publish
        self.flight = []
        self.again = 0  # how many of them are to be sent again
        self.number = 0
        self.dropped = 0
        self.heard = 0
        self.sent = 0
        self.base = (d.topic + "/").encode()
        # Made here, where the memory for making it is given back: the greeting without its head.
        texts = [d.topic.replace("/", "-"), d.topic + "/state", "offline"]
        flags = 0x26  # a new session, a will that is retained
        if user:
            flags |= 0x80
            texts.append(user)
            if password:
                flags |= 0x40
                texts.append(password)
        elif password:
            d.note("password is left out: no user")
        hello = b"\0\4MQTT\4" + bytes((flags, keep // 1000 >> 8, keep // 1000 & 255))
        for text in texts:
            text = text.encode()
            hello += bytes((len(text) >> 8, len(text) & 255)) + text
        self.hello = hello

    # --- the connection

    def begin(self):
        self.up = True
        self.call()

    def end(self):
        self.up = False
        self.close()

    def call(self):
        self.timer = None
        if not self.names:
            self.found(self.address[0])
            return
        try:
            self.names.ask(self.address[0], self.found)
        except (MemoryError, ValueError) as error:
            self.lost(error)

    def found(self, host):
        # The broker's address; None where nobody knows it.
        if not self.up or self.sock:
            return
        try:
            if not host:
                raise OSError(errno.EHOSTUNREACH)
            address = socket.getaddrinfo(host, self.address[1])[0][-1]
        except OSError as error:
            self.lost("%s is not known (%s)" % (self.address[0], error))
            return
        except MemoryError:
            why = "no memory to look it up"
            self.lost(why)
            return
        try:
            self.sock = socket.socket()
            self.sock.setblocking(False)
            try:
                self.sock.connect(address)
            except OSError as error:
                if error.errno not in (errno.EINPROGRESS, 119):  # 119: the ESP32's own number for it
                    raise
        except (OSError, MemoryError) as error:
            self.lost(error)
            return
        self.state = _CALLING
        self.heard = self.sent = time.ticks_ms()
        self.waits = True
        self.d.poller.register(self.sock, select.POLLIN | select.POLLOUT)

    def close(self):
        self.d.cancel(self.timer)
        self.timer = None
        if self.sock:
            try:
                self.d.poller.unregister(self.sock)
            finally:
                self.sock.close()
                self.sock = None
        self.dropped += self.news
        self.size = self.news = self.got = self.over = 0
        self.state = _AWAY

    def lost(self, why):
        if self.state == _ONLINE:
            self.d.status(1)
        why = str(why)
        if why != self.trouble:  # said once, not at every try
            self.trouble = why
            print("broker:", why)
        self.close()
        if self.up:
            self.timer = self.d.after(self.pause + random.getrandbits(9), self.call)
            self.pause = min(self.pause * 2, _LONGEST)

    def beat(self):
        # Called every few seconds.
        now = time.ticks_ms()
        silence = time.ticks_diff(now, self.heard)
        if not self.sock:
            # No memory for the next try's timer, or a name's answer that got lost, must not be the end of it.
            if self.up and not self.timer and silence > _FORGOTTEN:
                self.heard = now
                self.call()
            return
        if silence > (self.keep * 3 // 2 if self.state == _ONLINE else _PATIENCE):
            self.lost("silence")
        elif self.state == _ONLINE and max(silence, time.ticks_diff(now, self.sent)) * 2 > self.keep:
            if self.room(2):
                self.put(b"\xc0\x00")
                self.due = True
            self.sent = now

    # --- bytes

    def ready(self, flags):
        if self.sock is None:
            return
        try:
            if flags & (select.POLLERR | select.POLLHUP) and not flags & select.POLLIN:
                raise OSError(errno.ECONNRESET)
            if self.state == _CALLING and flags & select.POLLOUT:
                self.state = _GREETING
                self.greet()
            if flags & select.POLLIN:
                self.take()
            if self.state > _CALLING and (self.queue or self.fresh or self.size or self.again):
                self.drain()  # here, not where a packet was understood: calls that nest less take less of the heap
        except (OSError, ValueError, IndexError) as error:  # the last two: bytes that are no packet
            self.lost(error)

    def room(self, size):
        return self.sock and self.size + size <= _ROOM

    def put(self, data):
        end = self.size + len(data)
        _OUT[self.size : end] = data
        self.size = end

    def head(self, kind, size):
        self.put(bytes((kind, size)) if size < 128 else bytes((kind, size & 127 | 128, size >> 7)))

    def two(self, number):
        self.put(bytes((number >> 8, number & 255)))

    def text(self, text):
        self.two(len(text))
        self.put(text)

    def flush(self):
        # Where the connection is gone it raises OSError.
        while self.size and self.sock:
            count = self.sock.write(_VIEW[: self.size])
            if not count:  # None: not now
                break
            self.size -= count
            _VIEW[: self.size] = _VIEW[count : count + self.size]
            self.sent = time.ticks_ms()
            if not self.size:
                self.news = 0
        if self.sock and self.waits != (self.size > 0):
            self.waits = self.size > 0
            self.d.poller.modify(self.sock, select.POLLIN | select.POLLOUT if self.waits else select.POLLIN)

    def take(self):
        if not self.sock:
            return
        count = self.sock.readinto(self.into[self.got :] if self.got else self.into)
        if count is None:  # not now
            return
        if not count:
            raise OSError(errno.ECONNRESET)
        self.heard = time.ticks_ms()
        end = self.got + count
        if self.over:
            end = self.skip(end)
        self.got = end
        while self.sock and self.got and self.parse():
            pass

    def skip(self, end):
        # The rest of a packet that is too long goes by without being kept.
        passed = min(self.over, end - self.got)
        self.over -= passed
        self.into[self.got : end - passed] = self.into[self.got + passed : end]
        return end - passed

    def parse(self):
        # One whole packet from what has come in; False where none is whole yet.
        size, shift, at = 0, 0, 1
        while True:
            if at >= self.got:
                return False
            byte = self.into[at]
            size |= (byte & 127) << shift
            shift += 7
            at += 1
            if not byte & 128:
                break
            if shift > 21:
                raise ValueError("no MQTT packet")
        end = at + size
        if end > len(self.into):
            return self.pass_over(at, end)
        if self.got < end:
            return False
        view = self.into
        try:
            self.packet(self.into[0], view[at:end])
        finally:
            if self.sock and self.got >= end:
                self.got -= end
                if self.got:
                    view[: self.got] = view[end : end + self.got]
        return True

    def pass_over(self, at, end):
        # Wait until what an acknowledgement needs is there, then let the packet go by.
        if self.got < at + 2:
            return False
        need = at + 4 + (self.into[at] << 8 | self.into[at + 1])
        kind = self.into[0]
        if kind & 0xF6 == 0x32 and need <= min(end, len(self.into)):
            if self.got < need:
                return False
            self.ack(self.into[need - 2], self.into[need - 1])
        self.d.fault("a message", "%d bytes are too long" % end)
        self.over = max(0, end - self.got)
        left = max(0, self.got - end)
        self.into[:left] = self.into[self.got - left : self.got]
        self.got = left
        return left > 0

    # --- packets

    def greet(self):
        if not self.room(len(self.hello) + 3):
            raise ValueError("user and password are too long")
        self.head(0x10, len(self.hello))
        self.put(self.hello)
        self.flush()

    def packet(self, kind, body):
        high = kind & 0xF0
        if high == 0x20:
            if body[1]:
                self.d.status(3)
                raise OSError("the broker refuses, code %d%s" % (body[1], ": user or password" if body[1] > 3 else ""))
            self.online()
        elif high == 0x30:
            self.message(kind, body)
        elif high == 0x40:
            got = body[0] << 8 | body[1]
            for each in self.flight:
                if each[0] == got:
                    self.flight.remove(each)
                    self.again = min(self.again, len(self.flight))
                    break
        elif high == 0x90:
            for code in body[2:]:
                if code & 0x80:
                    self.d.status(3)
                    self.d.fault("the broker", "it lets nobody command this device")

    def online(self):
        self.state = _ONLINE
        self.pause = 1000
        self.trouble = None
        print("broker reached")
        self.d.status(2)
        qos = bytes((self.qos,))
        self.head(0x82, 2 + 2 * (2 + len(self.base)) + 7 + 1 + 6 + 1)
        self.two(self.next())
        self.text(self.base + b"+/+/set")
        self.put(qos)
        self.text(self.base + b"+/do/+")
        self.put(qos)
        self.again = len(self.flight)
        self.publish("", "state", b"online", 1)
        for part in self.d.parts.values():
            if part.props:
                part.new = (1 << len(part.props)) - 1
                if part not in self.fresh:
                    self.fresh.append(part)

    def next(self):
        self.number = self.number % 65535 + 1
        return self.number

    def ack(self, high, low):
        if self.room(4):
            self.put(bytes((0x40, 2, high, low)))
            self.flush()

    def message(self, kind, body):
        at = 2 + (body[0] << 8 | body[1])
        topic = bytes(body[2:at])
        if kind & 6:
            self.ack(body[at], body[at + 1])
            at += 2
        payload = bytes(body[at:])
        body = None
        try:
            if kind & 1:
                raise ValueError("retained: it is a command from before, and not obeyed")
            self.obey(topic, payload)
        except MemoryError:
            self.d.spare()
        except Exception as error:
            try:
                name = topic[len(self.d.topic) + 1 :].decode()
            except UnicodeError:
                name = "?"
            what = "wrong arguments" if isinstance(error, TypeError) else error
            self.d.fault("a message", "not understood: %s %s" % (name[:40], what))

    def obey(self, topic, payload):
        if len(payload) > _SHORT:
            raise ValueError("too long")
        way = topic[len(self.d.topic) + 1 :].decode().split("/")
        part = self.d.parts.get(way[0])
        if part is None and way[0] != "device" or len(way) != 3:
            raise ValueError("no such part")
        try:
            value = json.loads(payload) if payload else None
        except ValueError:
            raise ValueError("no JSON value")
        if part is None:
            if way[1] != "do" or " %s " % way[2] not in " tell restart forget settings update ":
                raise ValueError("no such action")
            __import__("cmd_" + way[2]).do(self.d, value)
            return
        if way[1] != "do" and way[2] == "set":
            if way[1] not in part.sets:
                raise ValueError("no such property")
            part.take(way[1], value)
            return
        given = [] if value is None or value == {} else value if isinstance(value, list) else [value]
        if way[2] in part.timed and given:
            given[-1] = number(given[-1]) * 1000
        if part.do(way[2], *given) is False:
            raise ValueError("no such action")

    # --- what the device says

    def value(self, part):
        # Only the newest value counts, so a part waits here with its changed bits, not a message.
        if self.state == _ONLINE and part not in self.fresh:
            self.fresh.append(part)
            self.due = True

    def pack(self, part, name):
        value = getattr(part, name)
        return b"true" if value is True else b"false" if value is False else json.dumps(value)

    def event(self, part, name):
        self.send(name, self.d.uptime(), part.name)  # when it was: what it says is made when it goes

    def vitals(self, signal):
        d = self.d
        lost = self.dropped + d.dropped
        row = {"uptime": d.uptime(), "signal": signal, "heap": d.free, "version": d.version, "dropped": lost}
        if self.state == _ONLINE:
            self.send("vitals", json.dumps(row))

    def send(self, name, payload, part=""):
        # At the end of the turn, with all else that there is to say.
        if len(self.queue) >= _KEPT:
            self.queue.pop(0)
            self.dropped += 1
        self.queue.append((part, name, payload))
        self.due = True

    def spare(self):
        self.dropped += len(self.queue)
        self.queue.clear()

    def drain(self):
        # As long as all that was put has left: the socket tells of room only where it had none.
        self.due = False
        try:
            while self.fill() and not self.size:
                pass
        except OSError as error:
            self.lost(error)

    def fill(self):
        # Puts what there is room for; gives whether something was put and there is more.
        put = 0
        while self.state == _ONLINE:
            if self.again:
                number, part, name, data = self.flight[-self.again]
                if not self.publish(part, name, data, 8, number):
                    break
                self.again -= 1
            elif self.fresh and len(self.flight) < _FLIGHT:
                # What is true now goes before what was; what is retained is said anew after every greeting.
                part = self.fresh[0]
                at = 0
                while not part.new & (1 << at):
                    at += 1
                name = part.props[at]
                if not self.publish(part.name, name, self.pack(part, name), 1):
                    break
                part.new &= ~(1 << at)
                if not part.new:
                    self.fresh.pop(0)
            elif self.queue and len(self.flight) < _FLIGHT:
                part, name, data = self.queue[0]
                if not self.publish(part, name, data, 0):
                    break
                if self.qos:
                    self.flight.append((self.number, part, name, data))
                else:
                    self.news += 1
                self.queue.pop(0)
            else:
                put = 0
                break
            put = 1
        if self.size:
            self.flush()
        return put

    def publish(self, part, name, data, flags, number=0):
        # Into the bytes that leave, where there is room; what never can have any is cut. `flags`: 1 is retained, 8 a repetition, with
        # the number that it had. Bytes, because a text that is made is looked up among all names.
        if self.qos and not number:
            number = self.next()
        topic = self.base + part.encode() + b"/" + name.encode() if part else self.base + name.encode()
        if isinstance(data, int):  # when an event was: it may wait here, or for its acknowledgement
            data = self.d.uptime() - data
            data = b'{"ago": %d}' % data if data > 2 else b"{}"
        elif isinstance(data, str):
            most = _ROOM - 11 - len(topic)
            data = (data if len(data.encode()) <= most else data[: max(0, most // 4)]).encode()
        size = len(topic) + len(data) + (4 if number else 2)
        if not self.room(size + 3):
            return False
        self.head(0x30 | flags | (2 if number else 0), size)
        self.text(topic)
        if number:
            self.two(number)
        self.put(data)
        return True
