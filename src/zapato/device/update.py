# The minimal program's work: an update fetched in pieces into the other slot, or waiting for one.
# An offer holds for a number that the device told when it was asked, so that a recorded one is none, and for one manifest.
from binascii import hexlify, unhexlify
import gc
import hashlib
import json
import os
import sys

import machine
from micropython import const
from loop import Device
from cmd_update import put, rank, same, seal
from start import feed

_PACKET = const(700)  # bytes of an incoming packet
_PIECE = const(512)  # bytes asked for at once
_ASKED_ANEW = const(3000)  # ms until a piece is asked for again
_UNHEARD = const(180)  # s without a piece after which the update is given up for now
_PROGRAM_AGAIN = const(600000)  # ms until the program that failed is tried again
_DAMAGED = const(3)  # times that a file may arrive wrong
_MANIFEST = const(8192)  # bytes that a manifest may have
_FILE = const(1 << 17)  # bytes that another file may have: more than any has, and less than the flash


def kept(name):
    try:
        with open(name) as file:
            found = json.load(file)
        return found if isinstance(found, dict) else {}
    except (OSError, ValueError):
        return {}


def gone(name):
    try:
        os.remove(name)
    except OSError:
        pass


def size(name):
    try:
        return os.stat(name)[6]
    except OSError:
        return 0


def pieces(file):
    piece = bytearray(256)
    view = memoryview(piece)
    while True:
        count = file.readinto(piece)
        feed()  # hashing and copying 30 KiB take longer than the watchdog waits
        if not count:
            return
        yield view[:count]


def digest(name):
    total = hashlib.sha256()
    with open(name, "rb") as file:
        for each in pieces(file):
            total.update(each)
    return total.digest()


class Update:
    def __init__(self, d, mqtt):
        self.d = d
        self.mqtt = mqtt
        self.slot = sys.path[0][1]
        self.other = "b" if self.slot == "a" else "a"
        d.version = kept(self.slot + "/manifest.json").get("version", "0")
        asked = kept("ask.json")
        self.version = d.updates = asked.get("update")
        self.mark = asked.get("head", "")  # how the digest begins of what is wanted: only who has just that answers
        self.wanted = None  # the file that comes; "" between two
        self.most = _MANIFEST  # bytes that it may have
        self.part = ""  # what has come of it
        self.files = []  # (name, digest) still to come
        self.all = {}
        self.silent = self.wrong = 0
        self.timer = None
        if mqtt:
            mqtt.into = memoryview(bytearray(_PACKET))
            self.pass_on = mqtt.message
            mqtt.message = self.message
        d.starts.append(self.begin)
        d.status = lambda code: Device.status(d, 5 if self.version else code)

    def begin(self):
        if not self.version or not self.mqtt:
            self.d.note("the minimal program runs: three starts failed, or nobody says what to do")
            self.d.after(_PROGRAM_AGAIN, self.back)
            return
        self.d.every(1000, self.beat)

    def beat(self):
        self.silent += 1
        if self.silent > _UNHEARD:
            self.give_up("nobody sends it")
        elif self.wanted is None and self.mqtt.state == 3:
            self.part = self.other + "/head"
            gone(self.part)
            self.want("manifest.json")

    def back(self):
        gone("ask.json")
        gone("fault.json")
        machine.reset()

    def give_up(self, why):
        self.wanted = ""
        self.d.note("update to %s is given up: %s" % (self.version, why))
        self.status("given up")
        gone("ask.json")
        self.d.cancel(self.timer)
        self.d.after(500, machine.reset)

    def status(self, word):
        # For programs: what people read may be worded by anybody.
        self.mqtt.send("update/status", json.dumps([self.version, word]))

    # --- pieces

    def want(self, name):
        self.wanted = name
        self.ask()

    def ask(self):
        self.d.cancel(self.timer)
        self.timer = None
        if not self.wanted:
            return
        self.timer = self.d.after(_ASKED_ANEW, self.ask)
        if self.mqtt.state == 3 and not self.mqtt.queue:
            self.mqtt.send("update/want", json.dumps([self.version, self.wanted, size(self.part), _PIECE, self.mark]))

    def message(self, kind, body):
        at = 2 + (body[0] << 8 | body[1])
        if bytes(body[at - 17 : at]) != b"/update/piece/set" or kind & 1:
            return self.pass_on(kind, body)
        if kind & 6:
            self.mqtt.ack(body[at], body[at + 1])
            at += 2
        end = at
        while end < len(body) and body[end] != 10:
            end += 1
        try:
            name, place = bytes(body[at:end]).decode().split()
            if name == self.wanted and self.version and int(place) == size(self.part):
                self.piece(name, body[end + 1 :])
        except (ValueError, OSError) as error:  # no such piece; a flash that cannot be written
            self.d.fault("the update", error)

    def piece(self, name, data):
        self.silent = 0
        if len(data) > _PIECE or size(self.part) + len(data) > self.most:
            gone(self.part)
            self.give_up("more comes of %s than it has" % name)
            return
        with open(self.part, "ab") as file:
            file.write(data)
        if len(data) == _PIECE:
            self.ask()
            return
        self.wanted = ""  # the same piece may come twice
        if name != "manifest.json":
            self.arrived(name)
            return
        try:
            self.manifest()
        except ValueError:
            gone(self.part)
            self.want(name)
            raise

    # --- files

    def manifest(self):
        # The seal, a line, and the manifest that it is of. What cannot be read is asked for again, but not for ever.
        self.wrong += 1
        if self.wrong > _DAMAGED:
            self.give_up("its manifest cannot be read")
            return
        gc.collect()
        with open("settings.json") as file:
            key = unhexlify(json.load(file)["update_key"])
        with open(self.part, "rb") as file:
            given = file.read(65)[:64].decode()
            made = seal(key, pieces(file))
        if not same(made, given):
            self.give_up("the manifest is not from who holds this device's key")
            return
        gc.collect()
        with open(self.part, "rb") as file:
            file.read(65)
            about = json.load(file)
        if about["device"] != self.d.name or about["version"] != self.version:
            self.give_up("it is for %s, version %s" % (about["device"], about["version"]))
        elif rank(self.version) < rank(self.d.version):
            self.give_up("it is older than %s" % self.d.version)
        elif not runs_on(about["base"], sys.implementation[1]):  # type: ignore
            self.give_up("it needs MicroPython %s" % about["base"])
        else:
            files = about["files"]
            for name in files:  # half as long: of two dozen files that is the room of another module
                files[name] = unhexlify(files[name])
            gone(self.other + "/manifest.json")
            self.part = self.other + "/part"
            self.all = files
            self.wrong = 0
            self.files = sorted(self.all)
            self.next()

    def next(self):
        gc.collect()
        while self.files:
            name = self.files[-1]
            for place in (self.other, self.slot):
                if size(place + "/" + name) and digest(place + "/" + name) == self.all[name]:
                    break
            else:
                self.fetch(name)
                return
            if place == self.slot:
                copy(place + "/" + name, self.part)
                self.arrived(name)
                return
            self.files.pop()
        self.done()

    def fetch(self, name):
        # What an earlier try had of this very file is not sent again.
        told = hexlify(self.all[name]).decode()
        if self.mark != told[:8]:
            self.wrong = 0
        if kept(self.other + "/begun").get("digest") != told:
            gone(self.part)
            put(self.other + "/begun", {"digest": told})
        self.mark = told[:8]
        self.most = _FILE
        self.want(name)

    def arrived(self, name):
        if digest(self.part) == self.all[name]:
            os.rename(self.part, self.other + "/" + name)
            self.files.pop()
        else:
            gone(self.part)
            self.wrong += 1
            if self.wrong >= _DAMAGED:
                self.give_up("%s arrives damaged" % name)
                return
        self.d.cancel(self.timer)
        self.d.after(1, self.next)

    def done(self):
        for folder in ("", "safe/"):
            for name in os.listdir(self.other + "/" + folder):
                if folder + name not in self.all and name != "safe" and name != "head":
                    gone(self.other + "/" + folder + name)
        self.all = {}  # what is told now wants room
        with open(self.other + "/head", "rb") as file:
            file.read(65)
            with open(self.other + "/manifest.new", "wb") as target:
                for each in pieces(file):
                    target.write(each)
        os.rename(self.other + "/manifest.new", self.other + "/manifest.json")
        gone(self.other + "/head")
        gone("ask.json")
        put("slots.json", {"trial": self.other, "left": 3})
        self.d.note("update to %s is there, on trial" % self.version)
        self.status("on trial")
        self.version = None
        self.d.after(500, machine.reset)


def copy(one, other):
    with open(one, "rb") as source:
        with open(other, "wb") as target:
            for each in pieces(source):
                target.write(each)


def runs_on(base, here):
    # ">=1.25,<2" against (1, 27, 0)
    for each in base.split(","):
        bound = [int(n) for n in each.lstrip("<>=").split(".")]
        have = list(here[: len(bound)])
        if each[0] == "<" and have >= bound or each[0] == ">" and have < bound:
            return False
    return True
