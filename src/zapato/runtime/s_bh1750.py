# BH1750FVI: continuous high-resolution mode, 1 lx steps; counts / 1.2 = lx.
from sensor import Sensor


class Bh1750(Sensor):
    props = ("illuminance",)

    def __init__(self, d, name, every, change, bus, address):
        self.i2c = d.parts[bus].i2c
        self.address = address
        self.begun = False
        super().__init__(d, name, every, change)

    def begin(self):
        self.i2c.writeto(self.address, b"\x01")
        self.i2c.writeto(self.address, b"\x10")
        self.begun = True

    def first(self):
        try:
            self.begin()
        except OSError:
            pass
        return 200  # the first measurement takes up to 180 ms

    def measure(self):
        try:
            if not self.begun:
                self.begin()
            raw = self.i2c.readfrom(self.address, 2)
        except OSError:
            self.begun = False
            raise
        return (round((raw[0] << 8 | raw[1]) / 1.2, 1),)
