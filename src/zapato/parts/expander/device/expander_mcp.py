# mcp23017 and mcp23008: pins with a direction and a pull-up each (registers in pairs, A before B, IOCON.BANK 0; or one by one).
from micropython import const

from expander import Expander

_IODIR = const(0x00)
_GPINTEN = const(0x04)
_IOCON = const(0x0A)
_GPPU = const(0x0C)
_GPIO = const(0x12)
_OLAT = const(0x14)


class McpExpander(Expander):
    def pair(self, register, value):
        if self.size == 1:
            self.put(bytes((register >> 1, value & 255)))
        else:
            self.put(bytes((register, value & 255, value >> 8 & 255)))

    def put(self, data):
        self.talk(self.i2c.writeto, data)

    def begin(self):
        # The latches before the directions: no pin is driven to a level that nobody asked for.
        self.pair(_IOCON, 0x4444)  # both ports on one open-drain interrupt line
        self.pair(_OLAT, self.out)
        self.pair(_GPPU, self.pulls)
        self.pair(_IODIR, ~self.outputs)
        self.pair(_GPINTEN, ~self.outputs if self.interrupt is not None else 0)

    def send(self):
        self.pair(_OLAT, self.out)

    def receive(self):
        if self.talk(self.i2c.writeto, bytes((_GPIO >> 2 - self.size,))) is None:
            return None
        return self.talk(self.i2c.readfrom, self.size)
