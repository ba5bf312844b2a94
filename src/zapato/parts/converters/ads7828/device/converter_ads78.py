# ads7828 and ads7830: eight inputs against ground, from ground to REF; a command, a repeated start, the result.
from micropython import const

from loop import Part

_AGAINST_COM = const(0x84)  # one input against COM, the reference inside off, the converter on


class Ads78Input:
    def __init__(self, owner, number):
        self.owner = owner
        self.number = number

    def read(self):
        return self.owner.measure(self.number)


class Ads78Converter(Part):
    def __init__(self, d, name, bus, address, bits, reference):
        super().__init__(d, name)
        self.bus = d.parts[bus]
        self.address = address
        self.bits = bits
        self.reference = reference

    def input(self, number):
        return Ads78Input(self, number)

    def measure(self, number):
        # The even inputs come first in its list, then the odd ones.
        self.bus.rests()
        command = _AGAINST_COM | (number >> 1 | (number & 1) << 2) << 4
        raw = self.bus.i2c.readfrom_mem(self.address, command, 2 if self.bits > 8 else 1)
        self.bus.rests()
        return int.from_bytes(raw, "big") * self.reference / (1 << self.bits)
