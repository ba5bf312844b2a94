# LM75A: eleven bits from the top of two bytes, 0.125 degrees each.
from i2c_sensor import I2cSensor


class Lm75(I2cSensor):
    props = ("temperature",)

    def first(self):
        return 300  # the first conversion after power-up

    def values(self):
        self.send(0)  # the temperature register
        raw = self.get(2)
        if raw[1] & 0x1F:
            raise ValueError("no answer of this chip")
        count = (raw[0] << 8 | raw[1]) >> 5
        return ((count - 2048 if count > 1023 else count) * 0.125,)
