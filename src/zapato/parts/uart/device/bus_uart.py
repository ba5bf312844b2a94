# A serial link: bytes out, bytes in; over RS-485 with a pin that lets the driver send.
import select
import time
from machine import Pin

from loop import Part
from uart import opened_line


class Links:
    # Puts serial links before the network in what the loop polls.
    def __init__(self, d):
        self.d = d
        self.links = []
        self.inner = d.other
        d.other = self.other

    def other(self, thing, flags):
        for each in self.links:
            if each.uart is thing:
                return self.d.guard(each.look)
        self.inner(thing, flags)


class Uart(Part):
    def __init__(self, d, name, tx, rx, baud, enable, number, parity=None, stop=1):
        super().__init__(d, name)
        self.uart = opened_line(number, tx, rx, baud, parity, stop)
        self.byte = (9 + stop + (parity is not None)) * 1000 / baud  # ms that a byte takes
        self.enable = None if enable is None else Pin(enable, Pin.OUT, value=0)
        self.hear = None  # who takes what comes
        self.master = None  # who asks, where several are on the line
        self.until = 0
        if rx is not None:
            if not hasattr(d, "links"):
                d.links = Links(d)
            d.links.links.append(self)
            d.poller.register(self.uart, select.POLLIN)

    def look(self):
        data = self.uart.read()
        if data and self.hear:
            self.hear(data)

    def send(self, data):
        # Gives how many ms it takes until the last bit is out.
        ms = int(len(data) * self.byte) + 1
        if self.enable:
            self.enable.value(1)
            self.until = time.ticks_add(time.ticks_ms(), ms)
            self.d.after(ms, self.sent)
        self.uart.write(data)
        return ms

    def sent(self):
        # The line is the others' again, once nothing is on its way.
        if time.ticks_diff(self.until, time.ticks_ms()) > 0:
            return  # more was sent meanwhile
        if self.uart.txdone():
            self.enable.value(0)  # type: ignore
        else:
            self.d.after(1, self.sent)
