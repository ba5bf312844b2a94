# Stands in for the port's network module: one station, one access point.
import stage_clock
import stage_net
from stage_log import log

STA_IF, AP_IF = 0, 1
JOINING = 1800  # ms from connect() to an address


def country(code=None):
    return code or "XX"


def hostname(name=None):
    return name or "board"


class WLAN:
    def __init__(self, interface=STA_IF):
        self.on = False
        self.tries = 0

    def active(self, on=None):
        if on is not None:
            self.on = bool(on)
        return self.on

    def connect(self, name=None, password=None):
        if not self.on:
            raise OSError("station not active")
        self.tries += 1
        tries = self.tries
        stage_clock.after(JOINING, lambda: self.joined(name, password or "", tries))

    def joined(self, name, password, tries):
        if tries == self.tries and stage_net.wifi and (name, password) == stage_net.known:
            stage_net.station = self
            log("net", "joined", True)

    def disconnect(self):
        self.tries += 1
        if stage_net.station is self:
            stage_net.station = None

    def isconnected(self):
        return stage_net.station is self

    def ifconfig(self):
        if stage_net.station is self:
            return ("192.168.4.20", "255.255.255.0", "192.168.4.1", "192.168.4.1")
        return ("0.0.0.0", "0.0.0.0", "0.0.0.0", "0.0.0.0")

    def status(self, what=None):
        if what == "rssi":
            return -58
        return 1010 if stage_net.station is self else 1001

    def config(self, *names, **values):
        return None
