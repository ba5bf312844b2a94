# Wi-Fi: join, watch, join again.
import random

import network

LOOK = 500  # ms between looks while joining
WATCH = 5000  # ms between looks while joined
PATIENCE = 20000  # ms until a try to join is given up
LONGEST = 60000  # ms between two tries at the most


class Net:
    def __init__(self, d, name, password, mqtt, country=""):
        self.d = d
        self.ssid = name
        self.password = password
        self.mqtt = mqtt
        self.joined = False
        self.waited = 0
        self.pause = 2000
        d.net = self
        if country:
            network.country(country)
        self.wlan = network.WLAN(network.STA_IF)

    def begin(self):
        self.d.status(0)
        self.d.after(60000, self.vitals)
        self.join()

    def join(self):
        self.waited = 0
        self.wlan.active(True)
        try:
            self.wlan.connect(self.ssid, self.password)
        except OSError as error:
            print("wifi:", error)
        self.d.after(LOOK, self.look)

    def look(self):
        if self.wlan.isconnected():
            if not self.joined:
                self.joined = True
                self.pause = 2000
                self.d.status(1)
                print("wifi joined,", self.wlan.ifconfig()[0])
                if self.mqtt:
                    self.mqtt.begin()
            self.d.after(WATCH, self.look)
            return
        if self.joined:
            self.joined = False
            self.d.status(0)
            print("wifi lost")
            if self.mqtt:
                self.mqtt.end()
            self.join()
            return
        self.waited += LOOK
        if self.waited < PATIENCE:
            self.d.after(LOOK, self.look)
            return
        self.wlan.disconnect()
        self.d.after(self.pause + random.getrandbits(10), self.join)
        self.pause = min(self.pause * 2, LONGEST)

    def vitals(self):
        self.d.after(60000, self.vitals)
        if self.mqtt and self.joined:
            self.mqtt.vitals(self.wlan.status("rssi"))

    def ready(self, flags):
        self.mqtt.ready(flags)

    def say(self, topic, text):
        if self.mqtt:
            self.mqtt.send(topic, text, False)

    def event(self, part, name):
        if self.mqtt:
            self.mqtt.send(part.name + "/" + name, "{}", False)

    def value(self, part, name):
        if self.mqtt:
            self.mqtt.value(part, name)
