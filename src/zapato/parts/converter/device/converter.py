# ads1115 and ads1015: four inputs against ground, single shots, at the narrowest range that holds its supply.
from micropython import const
import time

from loop import Part

_SINGLE = const(0xC1E3)  # one conversion, input 0 against ground, +-6.144 V, the fastest rate, no comparator
_NARROW = const(0x0200)  # +-4.096 V
_SHOT = const(2)  # ms of a conversion at 860 a second, with its 10 %


class ConverterInput:
    def __init__(self, owner, number):
        self.owner = owner
        self.number = number

    def read(self):
        return self.owner.measure(self.number)


class Converter(Part):
    def __init__(self, d, name, bus, address, wide):
        super().__init__(d, name)
        self.bus = d.parts[bus]
        self.i2c = self.bus.i2c
        self.address = address
        self.wide = wide

    def input(self, number):
        return ConverterInput(self, number)

    def measure(self, number):
        self.bus.rests()  # a line that is held low reads as zeros, and they are volts
        set_up = _SINGLE | number << 12 | (0 if self.wide else _NARROW)
        self.i2c.writeto(self.address, bytes((1, set_up >> 8, set_up & 255)))
        time.sleep_ms(_SHOT)
        self.i2c.writeto(self.address, b"\0")
        raw = self.i2c.readfrom(self.address, 2)
        self.bus.rests()
        count = raw[0] << 8 | raw[1]
        return (count - 65536 if count & 0x8000 else count) * (6.144 if self.wide else 4.096) / 32768
