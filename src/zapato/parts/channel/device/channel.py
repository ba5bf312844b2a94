# A channel of a multiplexer: to its chips it is an I2C bus like any other.
from bus_i2c import Bus

from loop import Part


class Segment:
    # What drivers ask of an I2C object.
    def __init__(self, multiplexer, mask):
        self.multiplexer = multiplexer
        self.mask = mask

    def writeto(self, *given):
        return self.multiplexer.through(self.mask, self.multiplexer.bus.i2c.writeto, *given)

    def readfrom(self, *given):
        return self.multiplexer.through(self.mask, self.multiplexer.bus.i2c.readfrom, *given)

    def readfrom_mem(self, *given):
        return self.multiplexer.through(self.mask, self.multiplexer.bus.i2c.readfrom_mem, *given)

    def scan(self):
        # Those that answer only while the channel is connected: none where the multiplexer does not answer.
        scan = self.multiplexer.bus.i2c.scan
        others = scan()
        try:
            return [address for address in self.multiplexer.through(self.mask, scan) if address not in others]
        except OSError:
            return ()


class Channel(Bus):
    def __init__(self, d, name, multiplexer, number):
        Part.__init__(self, d, name)
        self.found = None
        self.multiplexer = d.parts[multiplexer]
        self.i2c = Segment(self.multiplexer, bytes((1 << number,)))
        d.after(20, self.scan)

    def rests(self):
        self.multiplexer.rests()

    def free(self):
        return self.multiplexer.free()
