# A serial link: bytes out, bytes in; over RS-485 with a pin that lets the driver send.
import select
import time
from machine import Pin

from loop import Part
from uart import opened_line


class Lines:
    # The loop's turn with serial links in it; only devices that have one carry this.
    def __init__(self, d):
        self.d = d
        self.links = []
        d.turn = self.turn

    def turn(self):
        d = self.d
        if d.dog:
            d.dog.feed()
        wait = d.due()
        if d.queue:
            d.settle()
            wait = 0
        for thing, flags in d.poller.poll(wait):
            if thing is d.wake:
                d.wake.up = 0
                for each in d.inputs:
                    d.guard(each.look)
                continue
            for each in self.links:
                if each.uart is thing:
                    d.guard(each.look)
                    break
            else:
                if d.out:
                    d.guard(d.out.ready, flags)


class Uart(Part):
    def __init__(self, d, name, tx, rx, baud, enable, console):
        super().__init__(d, name)
        self.uart = opened_line(tx, rx, baud, console)
        self.byte = 10000 / baud  # ms that a byte takes
        self.enable = None if enable is None else Pin(enable, Pin.OUT, value=0)
        self.hear = None  # who takes what comes
        self.master = None  # who asks, where several are on the line
        self.until = 0
        if rx is not None:
            if not hasattr(d, "lines"):
                d.lines = Lines(d)
            d.lines.links.append(self)
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
