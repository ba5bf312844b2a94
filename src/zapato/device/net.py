# Wi-Fi: join, watch, join again.
from micropython import const
import random

import network

_LOOK = const(500)  # ms between looks while joining
_WATCH = const(4000)  # ms between looks while joined
_JOINING = const(20000)  # ms until a try to join is given up
_APART = const(30000)  # ms between two tries at the most


class Net:
    what = "wifi"
    met = False  # it was joined once since power-up

    def __init__(self, d, name, password, mqtt, country=""):
        self.d = d
        self.ssid = name
        self.password = password
        self.mqtt = mqtt
        self.joined = False
        self.waited = 0
        self.pause = 2000
        d.net = self
        d.out = mqtt
        if country:
            self.radio(network.country, country)
        self.wlan = network.WLAN(network.STA_IF)

    def begin(self):
        self.looking = [0, self.look, 0, 0]  # one timer for good: a look takes no memory
        self.d.status(0)
        self.d.every(60000, self.vitals)
        self.join()

    def radio(self, call, *given):
        # What the radio refuses is no reason to stop: the next look tries again.
        try:
            return call(*given)
        except (OSError, RuntimeError, ValueError, TypeError) as error:
            print(self.what, error)

    def join(self):
        self.waited = 0
        self.d.arm(self.looking, _LOOK)
        self.radio(self.wlan.active, True)
        self.radio(self.wlan.connect, self.ssid, self.password)

    def look(self):
        # Whatever goes wrong in one look, there is a next one.
        wait = _LOOK
        try:
            wait = self.watch()
        finally:
            if wait:
                self.d.arm(self.looking, wait)

    def watch(self):
        # ms until the next look; 0 where joining begins anew.
        if self.wlan.isconnected():
            if not self.joined:
                self.joined = self.met = True
                self.pause = 2000
                self.d.status(1 if self.mqtt else 2)
                print(self.what, "joined,", (self.radio(self.wlan.ifconfig) or ("?",))[0])
                if self.mqtt:
                    self.mqtt.begin()
            elif self.mqtt:
                self.mqtt.beat()
            return _WATCH
        if self.joined:
            self.joined = False
            self.d.status(0)
            print(self.what, "lost")
            if self.mqtt:
                self.mqtt.end()
            self.d.after(0, self.join)
            return 0
        self.waited += _LOOK
        if self.waited < _JOINING:
            return _LOOK
        self.radio(self.wlan.disconnect)
        self.d.after(self.pause + random.getrandbits(10), self.join)
        self.pause = min(self.pause * 2, _APART)
        return 0

    def vitals(self):
        if self.mqtt and self.joined:
            self.mqtt.vitals(self.radio(self.wlan.status, "rssi"))
