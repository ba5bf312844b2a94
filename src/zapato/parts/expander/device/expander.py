# A pin expander on I2C: its pins are used like the chip's own. pcf8574 and pcf8575: one latch, and what is high
# is held up so weakly that it can be read.
# All inputs are read at once, every 20 ms or when the interrupt line says so; after a silence the chip is set up anew.
from micropython import const

import levels
from machine import Pin

from loop import Part

_PACE = const(20)  # ms between two looks where no interrupt line is wired
_SELDOM = const(50)  # looks of which one is taken while it does not answer
_CARE = const(1000)  # ms between two looks where one is


class ExpanderPin:
    # What the drivers of parts ask of a pin.
    def __init__(self, owner, number):
        self.owner = owner
        self.number = number

    def value(self, level=None):
        if level is None:
            return self.owner.seen >> self.number & 1
        self.owner.write(self.number, level)


class Expander(Part):
    def __init__(self, d, name, bus, address, size, interrupt):
        super().__init__(d, name)
        self.bus = d.parts[bus]
        self.i2c = self.bus.i2c
        self.address = address
        self.size = size  # bytes
        self.out, self.outputs = levels.OFFERED[name]
        self.seen = (1 << 8 * size) - 1
        self.pulls = self.rest = 0
        self.watching = {}
        self.interrupt = interrupt
        self.edge = self.lost = False
        self.begin()

    def begin(self):
        self.send()

    def talk(self, call, *given):
        # A chip that does not answer is told once; when it answers again it is set up anew.
        try:
            self.bus.rests()
            found = call(self.address, *given)
        except OSError as error:
            if not self.lost:
                self.lost = True
                self.d.note(self.name + " does not answer: " + str(error))
            return None
        if self.lost:
            self.lost = False
            self.d.note(self.name + " answers again")
            self.begin()
        return found

    def pin(self, number, drives, level=0, pull=0):
        if drives:
            self.write(number, level)
        else:
            if pull == 1:
                self.pulls |= 1 << number
                self.begin()
            self.fetch()
        return ExpanderPin(self, number)

    def write(self, number, level):
        bit = 1 << number
        self.out = self.out | bit if level else self.out & ~bit
        self.send()

    def send(self):
        self.talk(self.i2c.writeto, self.out.to_bytes(self.size, "little"))

    def receive(self):
        return self.talk(self.i2c.readfrom, self.size)

    def fetch(self):
        data = self.receive()
        if data:
            seen = int.from_bytes(data, "little")
            if seen != self.seen:
                try:
                    self.bus.rests()  # a line that fell meanwhile read as zeros: nobody presses all buttons
                except OSError:
                    return
                self.seen = seen

    def watch(self, number, changed):
        if not self.watching:
            if self.interrupt is None:
                self.d.every(_PACE, self.compare)
            else:
                self.d.inputs.append(self)
                self.line = Pin(self.interrupt, Pin.IN, Pin.PULL_UP)
                self.line.irq(self.rang, Pin.IRQ_FALLING)
                self.d.every(_CARE, self.compare)
        self.watching[number] = changed

    def rang(self, pin):
        self.edge = True
        self.d.wake.up = 1

    def look(self):
        if self.edge:
            self.edge = False
            self.compare()

    def compare(self):
        if self.lost:  # a bus that hangs takes its time at every look
            self.rest = (self.rest + 1) % _SELDOM
            if self.rest:
                return
        before = self.seen
        self.fetch()
        news = before ^ self.seen
        if news:
            for number, changed in self.watching.items():
                if news >> number & 1:
                    self.d.guard(changed)
