# SCD41: periodic measurement, a new value every 5 s (datasheet, 3.5).
import time

from checked import words
from i2c_sensor import I2cSensor


class Scd41(I2cSensor):
    props = ("co2", "temperature", "humidity")

    def first(self):
        return self.early(5500)

    def begin(self):
        self.send(0x3F, 0x86)  # it may still be measuring since before: stop, then start
        time.sleep_ms(510)  # it takes up to 500 (3.5.3)
        self.send(0x21, 0xB1)

    def values(self):
        self.send(0xE4, 0xB8)
        time.sleep_ms(1)
        if not words(self.get(3))[0] & 0x7FF:
            raise ValueError("nothing new yet")
        self.send(0xEC, 0x05)
        time.sleep_ms(1)
        air, warm, damp = words(self.get(9))
        return air, round(warm * 175 / 65535 - 45, 2), round(damp * 100 / 65535, 1)
