# The access point and its page: the network's settings, asked of whoever is near. Runs in the minimal program, alone.
# It runs in the minimal program, alone: in 36 KiB a page and a program do not fit together.
import errno
import gc
import json
import os
import select
import socket
import sys
import time

import machine
import network
from micropython import const

_HERE = "192.168.4.1"  # what every port gives its own access point
_OPEN = const(300)  # s that nobody asks for the page, after which the program runs again
_VISITORS = const(3)  # connections at once; browsers open some that they never use
_IDLE = const(5000)  # ms that a connection may be silent
_LINE = const(80)  # bytes of a line of a request that are looked at
_BODY = const(512)  # bytes of what is sent from the page
_PIECE = const(256)  # bytes that leave at once
_TRY = const(25)  # s that joining may take
_ASK = const(8)  # s until the broker has answered
_STAYS = const(12)  # s that the page stays after it has told how it went
_LISTED = const(12)  # networks in the list
_JSON = "application/json"


class Visitor:
    # One request, and its answer as it leaves.
    def __init__(self, access, sock):
        self.access = access
        self.sock = sock
        self.since = time.ticks_ms()
        self.line = b""
        self.asked = b""
        self.left = 0  # bytes of the body still to come
        self.body = b""
        self.heard = False  # the head has ended
        self.typed = False  # what comes is JSON: no other page's form can send that without asking first
        self.host = self.origin = b""
        self.out = None
        self.file = None

    def step(self):
        # False where nothing follows.
        try:
            if self.out is None:
                data = self.sock.recv(128)
                if not data:
                    return False
                self.since = time.ticks_ms()
                self.hear(data)
            return self.out is None or self.say()
        except OSError as error:
            return error.errno == errno.EAGAIN  # not now
        except ValueError:  # no text
            return False

    def hear(self, data):
        at = 0
        while not self.heard and at < len(data):
            end = data.find(b"\n", at)
            self.line = (self.line + data[at : end if end >= 0 else len(data)])[:_LINE]
            if end < 0:
                return
            at = end + 1
            self.head(self.line.strip())
            self.line = b""
        self.body += data[at:]
        if self.heard and len(self.body) >= self.left:
            self.answer()

    def head(self, line):
        if not self.asked:
            self.asked = line
            return
        if not line:
            self.heard = True
            return
        name = line[: line.find(b":")].lower()
        value = line[len(name) + 1 :].strip().lower()
        if name == b"content-length":
            try:
                self.left = int(value)
            except ValueError:
                pass
            if not 0 <= self.left <= _BODY:
                raise ValueError
        elif name == b"content-type":
            self.typed = value.startswith(_JSON.encode())
        elif name == b"host":
            self.host = value
        elif name == b"origin":
            self.origin = value

    def ours(self):
        # From this page: its own origin, and asked by address. A name can lead anywhere, here above all.
        if self.host.strip(b"0123456789.:"):
            return False
        return self.typed and self.origin in (b"", b"http://" + self.host)

    def answer(self):
        way = self.asked.split()
        path = way[1].decode() if len(way) > 1 else "/"
        kind, text = _JSON, "{}"
        head = "200 OK"
        if path == "/":
            kind, text = "text/html", ""
            self.file = open(sys.path[0] + "/page.html", "rb")
        elif path == "/state":
            text = json.dumps(self.access.told())
        elif way[0] == b"POST" and not self.ours():
            head = "403 Forbidden"
        elif way[0] == b"POST" and path == "/look":
            self.access.look_around()
        elif way[0] == b"POST" and path == "/settings":
            text = json.dumps(self.access.given(self.body))
        else:  # what phones ask for to find out whether this is the internet
            head = "302 Found\r\nLocation: http://%s/" % _HERE
        self.out = (
            "HTTP/1.1 %s\r\nContent-Type: %s; charset=utf-8\r\nCache-Control: no-store\r\nConnection: close\r\n\r\n%s"
            % (head, kind, text)
        ).encode()
        self.body = b""

    def say(self):
        while self.out:
            count = self.sock.send(self.out[:_PIECE])
            self.since = time.ticks_ms()
            self.out = self.out[count:]
            if not self.out and self.file:
                self.out = self.file.read(_PIECE)
        return False

    def close(self):
        if self.file:
            self.file.close()
        self.sock.close()


class Access:
    joined = False
    due = False  # of what the loop tells nothing waits here

    def __init__(self, d, settings, radio, broker):
        self.d = d
        self.settings = settings
        self.radio_too = radio  # the device joins a Wi-Fi network
        self.broker = broker  # it speaks to a broker
        self.state = "open"
        self.why = ""
        self.address = ""
        self.networks = []
        self.quiet = 0  # s since somebody asked
        self.tried = 0
        self.left = -1  # s until it is over
        self.visitors = []
        self.new = {}
        self.poll = None  # while the broker is tried
        self.wlan = network.WLAN(network.STA_IF)

    def radio(self, call, *given, **named):
        try:
            return call(*given, **named)
        except (OSError, RuntimeError, ValueError, TypeError) as error:
            print("radio:", error)

    # --- what the loop calls

    def begin(self):
        self.d.status(6)
        self.radio(self.wlan.active, True)
        self.look_around()
        self.open()
        self.door = self.listen(socket.SOCK_STREAM, 80)
        self.door.listen(_VISITORS)
        self.asks = self.listen(socket.SOCK_DGRAM, 53)
        self.d.every(1000, self.beat)

    def open(self):
        # The ports differ in whether they want to know its name before it is up, or take it afterwards.
        key = (self.settings.get("wifi") or {}).get("access") or ""
        ap = network.WLAN(network.AP_IF)
        named = {"ssid": self.d.name, "security": getattr(network, "AUTH_WPA_WPA2_PSK", 0x400004) if key else 0}
        if key:
            named["key"] = key
        if not hasattr(network, "AUTH_OPEN"):
            self.radio(ap.config, **named)
        self.radio(ap.active, True)
        if hasattr(network, "AUTH_OPEN"):
            self.radio(ap.config, **named)
        print("access point %s: http://%s" % (self.d.name, _HERE))

    def listen(self, kind, port):
        sock = socket.socket(socket.AF_INET, kind)
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        sock.bind(("0.0.0.0", port))
        sock.setblocking(False)
        self.d.poller.register(sock, select.POLLIN)
        return sock

    def ready(self, flags):
        self.welcome()
        for each in list(self.visitors):
            self.serve(each)
        try:
            self.point(*self.asks.recvfrom(128))
        except (OSError, IndexError):
            pass

    def send(self, topic, payload):
        pass

    value = event = send

    def spare(self):
        while self.visitors:
            self.part(self.visitors[0])

    # --- who comes

    def welcome(self):
        try:
            sock = self.door.accept()[0]
        except OSError:
            return
        if len(self.visitors) >= _VISITORS:
            self.part(self.visitors[0])
        sock.setblocking(False)
        self.d.poller.register(sock, select.POLLIN)
        self.visitors.append(Visitor(self, sock))

    def serve(self, visitor):
        goes_on = False
        try:
            goes_on = visitor.step()
            if goes_on and visitor.out:
                self.d.poller.modify(visitor.sock, select.POLLOUT)
        finally:
            if not goes_on:
                self.part(visitor)

    def part(self, visitor):
        if visitor in self.visitors:
            self.visitors.remove(visitor)
            self.d.poller.unregister(visitor.sock)
            visitor.close()

    def point(self, data, who):
        # Every name leads here (RFC 1035), so that a phone shows the page by itself.
        end = data.find(b"\0", 12) + 5
        if len(data) >= end > 16 and not data[2] & 0x80:
            found = data[end - 3] == 1
            head = data[:2] + b"\x84\x80\0\1\0" + bytes((found,)) + b"\0\0\0\0" + data[12:end]
            record = b"\xc0\x0c\0\1\0\1\0\0\0\x0a\0\4\xc0\xa8\4\1" if found else b""
            self.asks.sendto(head + record, who)

    # --- what the page says and asks

    def told(self):
        # What was set before is told, but no password.
        self.quiet = 0
        if self.left > _STAYS:
            self.left = _STAYS
        mqtt = self.settings.get("mqtt") or {}
        found = {"device": self.d.name, "state": self.state, "why": self.why, "address": self.address}
        found["locked"] = bool(self.locked())
        if self.radio_too:
            found["networks"] = self.networks
            found["name"] = (self.settings.get("wifi") or {}).get("name") or ""
        if self.broker:
            found["broker"] = [mqtt.get("host") or "", mqtt.get("port") or 1883, mqtt.get("user") or ""]
        return found

    def locked(self):
        # Once there are secrets, what deliver printed opens the page: who is only near is nobody.
        for group in ("wifi", "mqtt"):
            if (self.settings.get(group) or {}).get("password"):
                return self.settings.get("page")

    def given(self, body):
        # {field: what is wrong with it}; nothing is wrong where joining begins.
        if self.state == "joining" or self.left >= 0:
            return {"": "it is busy"}
        try:
            row = json.loads(body)
            wrong = self.wrong(row)
        except (ValueError, TypeError, AttributeError, KeyError):
            return {"": "this was not understood"}
        if wrong:
            return wrong
        self.new = self.merged(row)
        if self.radio_too and not row.get("untried"):
            wifi = self.new["wifi"]
            self.state, self.why, self.tried = "joining", "", 0
            self.radio(self.wlan.disconnect)
            self.radio(self.wlan.connect, wifi["name"], wifi["password"])
        else:
            self.save("saved")
        return {}

    def wrong(self, row):
        if self.locked() and row.get("page") != self.locked():
            return {"page": "the password of this page, which zapato deliver printed"}
        if self.radio_too:
            if not 1 <= len(row["name"].encode()) <= 32:
                return {"name": "a network's name has 1 to 32 letters"}
            password = row.get("password")
            if password and not (8 <= len(password) <= 63 or len(password) == 64 and plain(password, 16)):
                return {"password": "a password has 8 to 63 characters"}
            if password and not plain(password):
                return {"password": "a password has letters, digits and signs of the plain keyboard only"}
        if self.broker:
            host, port = row["host"], row["port"]
            if not named(host):
                return {"host": "the broker's name or address, such as 192.168.4.2, without port"}
            if not isinstance(port, int) or not 0 < port < 65536:
                return {"port": "1 to 65535"}
            for name in ("user", "secret"):
                if len((row.get(name) or "").encode()) > 64:
                    return {name: "64 letters at the most"}
        return {}

    def merged(self, row):
        # A password that was not typed stays as it was, with the network or the broker and user that it was given for.
        new = dict(self.settings)
        if self.radio_too:
            wifi = dict(new.get("wifi") or ())
            wifi.setdefault("country", "")
            if row["name"] != wifi.get("name"):
                wifi["password"] = ""
            wifi["name"] = row["name"]
            if row.get("password") is not None:
                wifi["password"] = row["password"]
            wifi.setdefault("password", "")
            new["wifi"] = wifi
        if self.broker:
            mqtt = dict(new.get("mqtt") or ())
            mqtt.setdefault("qos", 0)
            mqtt.setdefault("keep_alive", 30000)
            whom = row["host"], row["port"], row.get("user") or ""
            if whom != (mqtt.get("host"), mqtt.get("port"), mqtt.get("user") or ""):
                mqtt["password"] = ""
            mqtt["host"], mqtt["port"], mqtt["user"] = whom
            if row.get("secret") is not None:
                mqtt["password"] = row["secret"]
            mqtt.setdefault("password", "")
            new["mqtt"] = mqtt
        return new

    # --- the radio

    def look_around(self):
        # Takes two seconds or three, and shakes off who is joined on another channel.
        if self.d.dog:
            self.d.dog.feed()
        found = []
        gc.collect()
        try:
            for row in sorted((self.radio(self.wlan.scan) or []) if self.radio_too else [], key=strength):
                name = row[0].decode()
                if name and len(found) < _LISTED and not any(name == each[0] for each in found):
                    found.append((name, row[3], row[4] > 0))
        except (MemoryError, ValueError):
            self.why = "there are more networks than fit: type the name"
        self.networks = found
        gc.collect()

    def beat(self):
        now = time.ticks_ms()
        for each in list(self.visitors):
            if time.ticks_diff(now, each.since) > _IDLE:
                self.part(each)
        if self.left >= 0:
            self.left -= 1
            if self.left < 0:
                self.leave()
        elif self.state == "joining":
            self.join()
        else:
            self.quiet += 1
            if self.quiet > _OPEN and self.known():
                self.leave()

    def known(self):
        # Whether the program has something to go on with.
        wifi, mqtt = self.settings.get("wifi") or {}, self.settings.get("mqtt") or {}
        return (wifi.get("name") or not self.radio_too) and (mqtt.get("host") or not self.broker)

    def join(self):
        self.tried += 1
        if self.radio(self.wlan.isconnected):
            self.address = (self.radio(self.wlan.ifconfig) or ("?",))[0]
            why = self.broker and self.ask()
            if why:
                self.fail("it joined the network, but " + why)
            elif why is not None:
                self.save("joined")
            return
        status = self.radio(self.wlan.status)
        if status == getattr(network, "STAT_WRONG_PASSWORD", -3):
            self.fail("the network refuses this password")
        elif self.tried > _TRY:
            absent = status == getattr(network, "STAT_NO_AP_FOUND", -2)
            self.fail(
                "no network of this name is heard; it hears 2.4 GHz only"
                if absent
                else "the network did not let it in: check the password; the signal may be too weak"
            )

    # --- the broker, tried before anything is kept

    def ask(self):
        # What is wrong; "" where nothing is, None while that is not known yet.
        mqtt = self.new["mqtt"]
        try:
            if not self.poll:
                self.tried = 0
                self.sock = socket.socket()
                self.sock.setblocking(False)
                self.poll = select.poll()
                try:
                    self.sock.connect(socket.getaddrinfo(mqtt["host"], mqtt["port"])[0][-1])
                except OSError as error:
                    if error.errno not in (errno.EINPROGRESS, 119):  # 119: the ESP32's own number for it
                        raise
                self.poll.register(self.sock, select.POLLOUT)
                return None
            for found in self.poll.ipoll(0):
                if found[1] & (select.POLLERR | select.POLLHUP):
                    raise OSError
                if found[1] & select.POLLIN:
                    return self.heard(self.sock.recv(4))
                if self.settings.get("authority"):  # through TLS: that somebody is there is all that shows here
                    self.drop()
                    return ""
                self.sock.send(greeting(self.d.topic, mqtt))
                self.poll.modify(self.sock, select.POLLIN)
        except (OSError, MemoryError, IndexError):
            return "nobody answers at %s, port %d" % (mqtt["host"], mqtt["port"])
        return "the broker at %s does not answer" % mqtt["host"] if self.tried > _ASK else None

    def heard(self, answer):
        if len(answer) < 4 or answer[0] != 0x20:
            return "what answers there is no broker"
        if not answer[3]:
            self.sock.send(b"\xe0\0")  # a proper end: nobody is told that the device is gone
            self.drop()
            return ""
        return "the broker refuses it" + (": user or password" if answer[3] > 3 else "")

    def drop(self):
        if self.poll:
            self.poll = None
            self.sock.close()

    def fail(self, why):
        self.state, self.why = "failed", why
        self.drop()
        self.radio(self.wlan.disconnect)

    def save(self, state):
        try:
            with open("settings.json.new", "w") as file:
                json.dump(self.new, file)
            os.rename("settings.json.new", "settings.json")
        except OSError:
            self.fail("the flash cannot be written")
            return
        self.settings = self.new
        self.state = state
        self.left = 5 * _STAYS
        print("settings are saved", self.address)

    def leave(self):
        try:
            os.remove("ask.json")
        except OSError:
            pass
        machine.reset()


def opened(d, settings, radio, broker):
    # Where the minimal program was started for another reason, nothing of this stays.
    try:
        with open("ask.json") as file:
            asked = json.load(file).get("settings")
    except (OSError, ValueError, AttributeError):
        asked = False
    if settings and not asked:
        del sys.modules["access"]
        return False
    d.net = d.out = Access(d, settings, radio, broker)
    return True


def strength(row):
    return -row[3]


def greeting(topic, mqtt):
    # CONNECT of MQTT 3.1.1 with a new session, and no will.
    texts = [topic.replace("/", "-")]
    flags = 2
    if mqtt["user"]:
        flags |= 0x80
        texts.append(mqtt["user"])
        if mqtt["password"]:
            flags |= 0x40
            texts.append(mqtt["password"])
    body = b"\0\4MQTT\4" + bytes((flags, 0, 30))
    for text in texts:
        text = text.encode()
        body += bytes((0, len(text))) + text
    size = len(body)
    return (bytes((0x10, size)) if size < 128 else bytes((0x10, size & 127 | 128, size >> 7))) + body


def named(host):
    # A name, or four numbers.
    if not host or len(host) > 64 or not plain(host):
        return False
    for each in " /:@?#":
        if each in host:
            return False
    parts = host.split(".")
    for each in parts:
        if not each:
            return False
    if not parts[-1].isdigit():
        return True
    return len(parts) == 4 and not [each for each in parts if not each.isdigit() or int(each) > 255]


def plain(text, base=0):
    if not isinstance(text, str):
        return False
    for each in text:
        if not 32 <= ord(each) < 127 or base and each not in "0123456789abcdefABCDEF":
            return False
    return True
