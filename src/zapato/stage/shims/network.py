# Stands in for the port's network module: one station.
from world import ask

STA_IF, AP_IF = 0, 1
STAT_IDLE, STAT_CONNECTING, STAT_GOT_IP = 1000, 1001, 1010


def country(code=None):
    return code or "XX"


def hostname(name=None):
    return name or "board"


class WLAN:
    def __init__(self, interface=STA_IF):
        self.interface = interface

    def active(self, on=None):
        return ask("wifi_active", "" if on is None else "1" if on else "0") == "1"

    def connect(self, name=None, password=None):
        ask("wifi_connect", (name or "") + "\n" + (password or ""))

    def disconnect(self):
        ask("wifi_disconnect")

    def isconnected(self):
        return ask("wifi_joined") == "1"

    def ifconfig(self):
        if self.isconnected():
            return ("192.168.4.20", "255.255.255.0", "192.168.4.1", "192.168.4.1")
        return ("0.0.0.0", "0.0.0.0", "0.0.0.0", "0.0.0.0")

    def status(self, what=None):
        if what == "rssi":
            return int(ask("wifi_signal"))
        return STAT_GOT_IP if self.isconnected() else STAT_CONNECTING

    def config(self, *names, **values):
        return None
