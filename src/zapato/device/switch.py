# A digital input that counts a new level only after it has stood for a while.
from micropython import const
import time

from machine import Pin

from loop import Part
from pins import input_pin

_POLL = const(10)  # ms between looks at a pin without interrupt


class Switch(Part):
    def __init__(self, d, name, gpio, pull, active, settle, poll, prop, into, out):
        super().__init__(d, name)
        self.active = active
        self.wait = settle
        self.prop = prop
        self.props = (prop,)
        self.words = (out, into)
        self.pin = input_pin(d, gpio, pull)
        self.timer = None
        self.edge = False
        self.seen = self.state = self.read()
        self.since = time.ticks_ms()
        self.missed = False
        setattr(self, prop, self.state)
        if poll:
            if isinstance(gpio, tuple):
                d.parts[gpio[0]].watch(gpio[1], self.sample)
                d.starts.append(self.sample)
            else:
                d.every(_POLL, self.sample)
            return
        d.inputs.append(self)
        self.pin.irq(self.interrupt, Pin.IRQ_RISING | Pin.IRQ_FALLING)
        d.starts.append(self.sample)  # what moved before its interrupt was armed would otherwise never be noticed

    def read(self):
        return self.pin.value() == self.active

    def interrupt(self, pin):
        # While the program is busy elsewhere, a level may come, stand long enough, and go: keep that.
        now = time.ticks_ms()
        if self.seen != self.state and time.ticks_diff(now, self.since) >= self.wait:
            self.missed = True
        self.seen = pin.value() == self.active
        self.since = now
        self.edge = True
        self.d.wake.up = 1

    def look(self):
        if self.missed:
            self.missed = False
            self.turn()
        if self.edge:
            self.edge = False
            self.begin()

    def sample(self):
        level = self.read()
        if level != self.seen:
            self.seen = level
            self.since = time.ticks_ms()
            self.begin()

    def begin(self):
        self.d.cancel(self.timer)
        self.timer = self.d.after(self.wait, self.settled)

    def settled(self):
        # Where an edge came whose handler has not run yet, or was lost, or was not looked at, the level has not stood.
        self.timer = None
        self.sample()
        if not (self.timer or self.edge) and self.seen != self.state:
            self.turn()

    def turn(self):
        level = self.state = not self.state
        setattr(self, self.prop, level)
        self.d.changed(self, self.prop)
        self.d.emit(self, self.words[level])
        self.moved(level)

    def moved(self, level):
        pass
