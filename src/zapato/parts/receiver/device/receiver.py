# Codes of 433 MHz remotes: 24 bits of a short and a long pulse each, then a long silence (PT2262 and EV1527 datasheets).
from array import array
from micropython import const
import time

from edges import hear_edges
from machine import Pin

from loop import Part

_BITS = const(24)
_WIDTHS = const(49)  # of one frame between two silences
_SILENCE = const(3500)  # us: longer is the end of a frame
_GONE = const(250)  # ms after the last frame that the button is up again
_NOISY = const(6000)  # edges a second that leave the program no time
_FOUND = const(12)  # codes that a scan remembers
_FRAMES = const(8)  # frames that are sent
_UNSENT = const(4)  # codes that may wait to be sent


class Receiver(Part):
    props = ("code", "sent", "found")
    code = None
    sent = None
    found = None

    def __init__(self, d, name, gpio, send, pulse):
        super().__init__(d, name)
        self.ears = {}  # code -> remote
        self.row = array("H", bytes(2 * _WIDTHS))
        self.ready = array("H", bytes(2 * _WIDTHS))
        self.count = _WIDTHS + 1
        self.then = time.ticks_us()
        self.whole = False
        self.edges = 0
        self.before = None
        self.held = None
        self.timer = None
        self.queue = []
        self.pulse = pulse
        self.out = None if send is None else Pin(send, Pin.OUT, value=0)
        self.left = 0
        if gpio is not None:
            d.wake.up = 0  # every name that the handler sets is there before, for it must take no memory
            self.pin = Pin(gpio, Pin.IN)
            self.edge = self.heard_edge
            d.inputs.append(self)
            d.every(1000, self.second)
            hear_edges(self.pin, self.edge)

    # --- hearing

    def heard_edge(self, pin):
        now = time.ticks_us()
        width = time.ticks_diff(now, self.then)
        self.then = now
        self.edges += 1
        if width > _SILENCE:
            if self.count == _WIDTHS and not self.whole:
                row = self.row
                self.row = self.ready
                self.ready = row
                self.whole = True
                self.d.wake.up = 1
            self.count = 0
        elif self.count < _WIDTHS:
            self.row[self.count] = width
            self.count += 1
        else:
            self.count = _WIDTHS + 1

    def look(self):
        if not self.whole:
            return
        code = code_in(self.ready)
        self.whole = False
        if code is None:
            self.before = None
        elif code != self.before:
            self.before = code  # the same once more, and it is one
        else:
            self.hold("%06x" % code)

    def hold(self, code):
        self.d.cancel(self.timer)
        self.timer = self.d.after(_GONE, self.up)
        if code == self.held:
            return
        if self.held:
            self.tell(False)
        self.held = code
        if code != self.code:
            self.code = code
            self.d.changed(self, "code")
        known = self.found.split() if self.found else []
        if code not in known and len(known) < _FOUND:
            self.found = " ".join(known + [code])
            self.d.changed(self, "found")
        self.d.emit(self, "received")
        self.tell(True)

    def up(self):
        self.timer = None
        self.before = None
        self.tell(False)
        self.held = None

    def tell(self, down):
        ear = self.ears.get(self.held)
        if ear:
            ear.moved(down)

    def second(self):
        # Noise without end must leave the rest some time: every other second it is not listened to.
        if self.edges > _NOISY:
            self.edges = 0
            self.pin.irq(None)
            self.d.after(1000, self.again)
            self.d.fault(self.name, "hears nothing but noise")
        self.edges = 0

    def again(self):
        self.count = _WIDTHS + 1
        self.then = time.ticks_us()
        hear_edges(self.pin, self.edge)

    # --- sending

    def send(self, code):
        try:
            bits = int(code, 16) if len(code) == 6 else -1
        except (ValueError, TypeError):
            bits = -1
        if bits < 0:
            raise ValueError("takes a code of six hexadecimal digits")
        if self.out is None:
            raise ValueError("has no transmitter")
        if len(self.queue) >= _UNSENT:
            raise ValueError("too many codes wait to be sent")
        self.queue.append(bits)
        if len(self.queue) == 1:
            self.left = _FRAMES
            self.d.after(0, self.frame)

    def frame(self):
        # One frame blocks the loop for some 35 ms; the silence after it does not.
        bits = self.queue[0]
        put = self.out.value  # type: ignore
        short = self.pulse
        until = time.ticks_us()  # each edge at its own moment: what the program itself takes is not added up
        for at in range(_BITS - 1, -1, -1):
            high = short * 3 if bits >> at & 1 else short
            put(1)
            until = wait(until, high)
            put(0)
            until = wait(until, 4 * short - high)
        put(1)
        wait(until, short)
        put(0)
        self.whole = False  # what it sends itself is no one's press
        self.count = _WIDTHS + 1
        self.before = None
        self.left -= 1
        if not self.left:
            self.queue.pop(0)
            self.left = _FRAMES
            self.sent = "%06x" % bits
            self.d.changed(self, "sent")
        if self.queue:
            self.d.after(31 * short // 1000 + 1, self.frame)

    def do(self, action, *given):
        if action == "send" and len(given) == 1:
            self.send(given[0])
            return True
        if action != "scan" or given:
            return False
        self.found = ""
        self.d.changed(self, "found")
        self.d.note(self.name + " remembers the codes that come")
        return True


def wait(until, us):
    # So long after the moment before; gives the moment.
    until = time.ticks_add(until, us)
    time.sleep_us(time.ticks_diff(until, time.ticks_us()))
    return until


def code_in(row):
    # The number that a frame says; None for noise.
    total = 0
    for at in range(2 * _BITS):
        total += row[at]
    each = total // _BITS  # four short pulses
    if not 400 < each < 3600:
        return None
    code = 0
    for at in range(0, 2 * _BITS, 2):
        high = row[at]
        low = row[at + 1]
        if not each // 2 < high + low < each * 3 // 2 or min(high, low) * 3 > max(high, low) * 2:
            return None
        code = code << 1 | (high > low)
    return code
