# Something that advertises: near or not, and what its bytes say.
from micropython import const

from loop import Part
from slots import fits, values

_STEP_DB = const(5)  # dB that count as another strength


class Beacon(Part):
    strength = said = None

    def __init__(self, d, name, radio, address, patterns, gone, props):
        super().__init__(d, name)
        self.patterns = patterns
        self.gone = gone
        self.props = props
        for each in props:
            setattr(self, each, None)
        self.near = False
        self.timer = None
        d.parts[radio].ears[address] = self

    def have(self, name, value):
        if value != getattr(self, name):
            setattr(self, name, value)
            self.d.changed(self, name)

    def heard(self, strength, data):
        self.d.cancel(self.timer)
        self.timer = self.d.after(self.gone, self.lost)
        self.have("near", True)
        if self.strength is None or abs(strength - self.strength) >= _STEP_DB:  # type: ignore
            self.have("strength", strength)
        if data == self.said:  # said again and again: nothing new is read from it
            return
        at = 0
        while self.patterns and at < len(data) and data[at]:  # structures: length, type, data
            self.read(data[at + 1 : at + 1 + data[at]])
            at += data[at] + 1
        self.said = data  # only now: what there was no memory for is read the next time

    def read(self, data):
        for pattern in self.patterns:
            if fits(pattern, data):
                for name, value in values(pattern, data):
                    self.have(name, value)

    def lost(self):
        self.timer = self.said = None
        self.have("near", False)
        for name in self.props[1:]:
            self.have(name, None)
