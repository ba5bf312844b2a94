# Bluetooth LE as a listener: what comes waits for the loop, beacons get theirs, the rest may be passed on.
from micropython import const
import json
import time

import bluetooth  # type: ignore

from loop import Part

_RESULT = const(5)  # an advertisement was heard
_QUEUE = const(12)  # advertisements that may wait for the loop
_KNOWN = const(24)  # addresses that are remembered
_SHOWN = const(48)  # things said that are passed on after a scan was asked for
_ASKS = const(10000)  # ms for which a scan asks for names
_AGAIN = const(60000)  # ms after which an address that is not heard is forgotten


class Radio(Part):
    props = ("found", "left_out")

    def __init__(self, d, name, weakest, passes, only, apart, most):
        super().__init__(d, name)
        self.weakest = weakest
        self.passes = passes
        self.only = only
        self.apart = apart
        self.most = most
        self.found = None
        self.left_out = 0
        self.ears = {}  # address -> beacon
        self.waits = []
        self.known = {}  # address -> [when heard, how strongly, when passed on]
        self.room = most
        self.lost = 0
        self.shown = []  # what was passed on for the scan that runs
        self.timer = None  # while one runs
        d.inputs.append(self)
        d.starts.append(self.begin)
        d.every(1000, self.second)
        d.every(_AGAIN, self.scan, 10000)

    def begin(self):
        self.ble = bluetooth.BLE()
        self.ble.active(True)
        self.ble.irq(self.heard)
        self.listen(False)

    def listen(self, asks):
        self.ble.gap_scan(None)  # type: ignore[arg-type]  # one that scans refuses to begin anew
        self.ble.gap_scan(0, 100000, 50000, asks)  # half of the time, for Wi-Fi wants the antenna, too

    def heard(self, event, data):
        if event != _RESULT or data[3] < self.weakest:
            return
        if len(self.waits) >= _QUEUE:
            self.lost += 1
            return
        try:
            self.waits.append((bytes(data[1]), data[3], bytes(data[4])))
        except MemoryError:  # a handler that raises is taken away by the port, for good
            self.lost += 1
        self.d.wake.up = 1

    def look(self):
        while self.waits:
            address, strength, data = self.waits.pop(0)
            now = time.ticks_ms()
            row = self.known.get(address)
            if row is None:
                if len(self.known) >= _KNOWN:
                    self.tidy(now)
                if len(self.known) < _KNOWN:
                    row = self.known[address] = [now, strength, None]
            else:
                row[0] = now
                row[1] = strength
            ear = self.ears.get(address)
            if ear:
                self.d.guard(ear.heard, strength, data)
            if self.timer and self.show(address, strength, data):
                continue
            if self.passes and self.wanted(address):
                self.pass_on(address, strength, data, row, now)

    def wanted(self, address):
        for begins in self.only:
            if address.startswith(begins):
                return True
        return not self.only

    def pass_on(self, address, strength, data, row, now):
        out = self.d.out
        if row is None or not out or out.state != 3 or self.room <= 0:  # later nobody wants to know who was near
            self.lost += 1
        elif row[2] is None or time.ticks_diff(now, row[2]) >= self.apart:
            row[2] = now
            self.tell(address, strength, data)
            self.d.hear(self.name, "heard", 1)
        else:
            self.lost += 1

    def show(self, address, strength, data):
        # After a scan was asked for everything that is said goes out once, its address and how it begins.
        what = hash(address + data[:8])
        out = self.d.out
        if what in self.shown or len(self.shown) >= _SHOWN or self.room <= 0 or not out or out.state != 3:
            return False
        self.shown.append(what)
        self.tell(address, strength, data)
        return True

    def tell(self, address, strength, data):
        self.room -= 1
        row = {"address": text(address), "strength": strength, "data": data.hex()}
        self.d.out.send(self.name + "/heard", json.dumps(row))

    def second(self):
        self.room = self.most

    def tidy(self, now):
        for address in list(self.known):
            if time.ticks_diff(now, self.known[address][0]) > _AGAIN:
                del self.known[address]

    def scan(self):
        self.tidy(time.ticks_ms())
        rows = sorted([(-row[1], address) for address, row in self.known.items()])
        found = " ".join([text(address) for _, address in rows])
        if found != self.found:
            self.found = found
            self.d.changed(self, "found")
        if self.lost:
            self.left_out += self.lost
            self.lost = 0
            self.d.changed(self, "left_out")

    def do(self, action, *given):
        if action != "scan" or given:
            return False
        self.found = None
        self.scan()
        self.d.note("%s heard %s" % (self.name, self.found or "nothing"))
        self.shown = []
        self.listen(True)
        self.d.cancel(self.timer)
        self.timer = self.d.after(_ASKS, self.calm)
        return True

    def calm(self):
        self.timer = None
        self.shown = []
        self.listen(False)


def text(address):
    return ":".join(["%02x" % byte for byte in address])
