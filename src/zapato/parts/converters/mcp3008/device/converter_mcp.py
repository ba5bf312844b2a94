# mcp3004 to mcp3208: inputs against ground on SPI, from ground to VREF.
from loop import Part


class McpInput:
    def __init__(self, owner, number):
        self.owner = owner
        self.number = number

    def read(self):
        return self.owner.measure(self.number)


class McpConverter(Part):
    def __init__(self, d, name, bus, select, bits, reference):
        super().__init__(d, name)
        self.bus = d.parts[bus]
        self.gpio = select
        self.bits = bits
        self.reference = reference
        self.bus.select(select)

    def input(self, number):
        return McpInput(self, number)

    def measure(self, number):
        # A start bit, a bit for one input, its number, a clock to sample and a zero: then the result, its highest bit first.
        self.bus.rests()
        raw = self.bus.exchange(self.gpio, bytes((0x60 | number << 2,)), 2)
        return ((raw[0] << 8 | raw[1]) >> 16 - self.bits) * self.reference / (1 << self.bits)
