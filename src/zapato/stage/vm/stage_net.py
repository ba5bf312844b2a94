# The network around the board: an access point, and sockets that lead to the broker.
import errno

import stage_clock
from stage_log import log

FLIGHT = 8  # ms that bytes travel, one way

wifi = True
broker = True
known = None  # (name, password) of the access point
station = None  # the WLAN that is joined
sockets = []


def set_wifi(up):
    global wifi, station
    wifi = up
    log("net", "wifi", up)
    if not up:
        station = None


def set_broker(up):
    global broker
    broker = up
    log("net", "broker", up)
    if not up:
        import stage_broker

        if stage_broker.hub.session:
            stage_broker.hub.session.live = False  # with the broker goes its memory of the will
        stage_broker.hub.session = None
        for each in list(sockets):
            each.broken()


def drop_all():
    # The board lost its power: nobody says goodbye.
    global station
    station = None
    for each in list(sockets):
        each.alive = False
        each.gone()
    sockets.clear()


class Wire:
    # One TCP connection as the program's socket sees it.
    def __init__(self):
        self.alive = False
        self.open = False
        self.failed = False
        self.ended = False
        self.into = bytearray()
        self.peer = None

    def connect(self, address):
        sockets.append(self)
        self.alive = True
        if station:
            stage_clock.after(2 * FLIGHT, self.answered)

    def answered(self):
        if not self.alive or not station:
            return
        if broker:
            import stage_broker

            self.open = True
            self.peer = stage_broker.Session(self)
        else:
            self.failed = True

    def send(self, data):
        if self.failed or self.ended:
            raise OSError(errno.ECONNRESET)
        if not self.open:
            raise OSError(errno.EAGAIN)
        if station:
            copy = bytes(data)
            stage_clock.after(FLIGHT, lambda: self.arrive(copy))
        return len(data)

    def arrive(self, data):
        if self.open and self.peer and station:
            self.peer.feed(data)

    def deliver(self, data):
        # From the broker to the program.
        def land():
            if self.alive and station:
                self.into.extend(data)

        stage_clock.after(FLIGHT, land)

    def recv(self, size):
        if self.into:
            data = bytes(self.into[:size])
            self.into = self.into[size:]
            return data
        if self.failed:
            raise OSError(errno.ECONNREFUSED)
        if self.ended:
            return b""
        raise OSError(errno.EAGAIN)

    def broken(self):
        if self.open:
            self.open = False
            self.ended = True
            self.peer = None

    def gone(self):
        if self.peer:
            self.peer.silent()
            self.peer = None
        self.open = False

    def close(self):
        self.alive = False
        if self in sockets:
            sockets.remove(self)
        if self.peer and station:
            self.peer.closed()
            self.peer = None
        else:
            self.gone()
