# SHT31: single shots at high repeatability without clock stretching (datasheet, table 9; conversion in 4.13).
from micropython import const
import time

from checked import words
from i2c_sensor import I2cSensor

_TAKES_MOST = const(16)  # ms: 15.5 at most (table 4)


class Sht31(I2cSensor):
    props = ("temperature", "humidity")

    def values(self):
        self.send(0x24, 0x00)
        time.sleep_ms(_TAKES_MOST)
        warm, damp = words(self.get(6))
        return round(warm * 175 / 65535 - 45, 2), round(damp * 100 / 65535, 1)
