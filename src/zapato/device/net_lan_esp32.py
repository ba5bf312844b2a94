# A cable in place of Wi-Fi.
from net import Net


class Cable:
    # What the network module asks of a radio, answered by a cable.
    def __init__(self, lan, address):
        self.lan = lan
        self.address = address

    def active(self, on):
        self.lan.active(on)
        if self.address:
            self.lan.ifconfig(self.address)

    def isconnected(self):
        return self.lan.isconnected() and self.ifconfig()[0] != "0.0.0.0"

    def ifconfig(self):
        return self.lan.ifconfig()

    def connect(self, name, password):
        pass

    def disconnect(self):
        pass

    def status(self, what):
        pass


class LanNet(Net):
    what = "cable"

    def __init__(self, d, cable, mqtt):
        self.d = d
        self.ssid = self.password = ""
        self.mqtt = mqtt
        self.joined = False
        self.pause = 2000
        d.net = self
        d.out = mqtt
        self.wlan = cable

    def watch(self):
        self.waited = 0  # a cable that is not plugged in is waited for
        return super().watch()
