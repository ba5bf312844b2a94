# A multiplexer of I2C buses: a channel is connected only while one of its chips is spoken to.
# A bit of its one register a channel (datasheets, Control register); all are off after a reset.
from machine import Pin

from loop import Part


class Multiplexer(Part):
    def __init__(self, d, name, bus, address, reset):
        super().__init__(d, name)
        self.bus = d.parts[bus]
        self.address = address
        self.reset = None if reset is None else Pin(reset, Pin.OUT, value=1)
        try:
            self.close()  # what a restart of this program left connected
        except OSError:
            pass

    def free(self):
        # Whether the bus can be used; a line that a channel holds low is cut off first, where that can be done.
        if not self.bus.free():
            try:
                self.close()
            except OSError:
                pass
        return self.bus.free()

    def rests(self):
        self.free()
        self.bus.rests()

    def close(self):
        try:
            self.bus.rests()  # with a line held low it would hear nothing
            self.bus.i2c.writeto(self.address, b"\0")
        except OSError:
            if self.reset is None:
                raise
            self.reset.value(0)
            self.reset.value(1)

    def through(self, mask, call, *given):
        self.rests()
        self.bus.i2c.writeto(self.address, mask)
        try:
            self.bus.rests()  # a channel whose line is held low holds the whole bus
            return call(*given)
        finally:
            self.close()
