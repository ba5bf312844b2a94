# AHT20: a measurement is triggered in one reading and fetched in it after 80 ms (datasheet, 5.4).
from micropython import const
import time

from checked import crc8
from i2c_sensor import I2cSensor

_READS_IN = const(80)  # ms


class Aht20(I2cSensor):
    props = ("temperature", "humidity")

    def first(self):
        return 100  # ms: 40 after power-up until it listens

    def begin(self):
        if not self.get(1)[0] & 0x08:
            self.send(0xBE, 0x08, 0x00)
            time.sleep_ms(10)

    def values(self):
        self.send(0xAC, 0x33, 0x00)
        time.sleep_ms(_READS_IN)
        data = self.get(7)
        if data[0] & 0x80:
            raise ValueError("it is still measuring")
        if crc8(data, 6):
            raise ValueError("the check sum is wrong")
        damp = data[1] << 12 | data[2] << 4 | data[3] >> 4
        warm = (data[3] & 15) << 16 | data[4] << 8 | data[5]
        return round(warm * 200 / 1048576 - 50, 2), round(damp * 100 / 1048576, 1)
