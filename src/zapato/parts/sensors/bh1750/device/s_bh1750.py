# BH1750FVI: continuous high-resolution mode, 1 lx steps; counts / 1.2 = lx.
from i2c_sensor import I2cSensor


class Bh1750(I2cSensor):
    props = ("illuminance",)

    def begin(self):
        self.send(0x01)
        self.send(0x10)

    def measure(self):
        if not self.begun:  # set up anew after a silence: until it has measured it says 0
            self.bus.rests()
            self.begin()
            self.begun = True
            raise ValueError("it begins anew")
        return super().measure()

    def first(self):
        return self.early(200)  # the first measurement takes up to 180 ms

    def values(self):
        raw = self.get(2)
        return (round((raw[0] << 8 | raw[1]) / 1.2, 1),)
