# BME280: forced mode, oversampling 1; compensation as in the datasheet, section 4.2.3 and appendix 8.1 (floating point).
from micropython import const
import struct
import time

from i2c_sensor import I2cSensor

_CALIBRATION = const(0x88)
_HUMID = const(0xE1)
_ID = const(0xD0)
_TAKES = const(10)  # ms: 9.3 at most with oversampling 1 (section 9.1)


class Bmp280(I2cSensor):
    props = ("temperature", "pressure")
    chip = 0x58

    def begin(self):
        if self.register(_ID, 1)[0] != self.chip:
            raise ValueError("another chip answers at its address")
        self.cal = struct.unpack("<HhhHhhhhhhhh", self.register(_CALIBRATION, 24))

    def register(self, at, size):
        self.send(at)
        return self.get(size)

    def values(self):
        self.send(0xF4, 0x25)
        time.sleep_ms(_TAKES)
        data = self.register(0xF7, 6)
        fine = self.warm(data[3] << 12 | data[4] << 4 | data[5] >> 4)
        return round(fine / 5120, 2), round(self.press(data[0] << 12 | data[1] << 4 | data[2] >> 4, fine), 0)

    def warm(self, raw):
        # t_fine; 5120 of it are a degree
        c = self.cal
        one = (raw / 16384 - c[0] / 1024) * c[1]
        two = raw / 131072 - c[0] / 8192
        return one + two * two * c[2]

    def press(self, raw, fine):
        # Pa
        c = self.cal
        one = fine / 2 - 64000
        two = one * one * c[8] / 32768
        two = (two + one * c[7] * 2) / 4 + c[6] * 65536
        one = (c[5] * one * one / 524288 + c[4] * one) / 524288
        one = (1 + one / 32768) * c[3]
        if not one:
            raise ValueError("its calibration is empty")
        found = (1048576 - raw - two / 4096) * 6250 / one
        return found + (c[11] * found * found / 2147483648 + found * c[10] / 32768 + c[9]) / 16


class Bme280(Bmp280):
    props = ("temperature", "humidity", "pressure")
    chip = 0x60

    def begin(self):
        super().begin()
        first = self.register(0xA1, 1)[0]
        h = self.register(_HUMID, 7)
        two = h[0] | h[1] << 8
        six = h[6]
        signed = struct.unpack("b", h[3:4])[0] << 4 | h[4] & 15, struct.unpack("b", h[5:6])[0] << 4 | h[4] >> 4
        self.wet = (first, two - 65536 if two > 32767 else two, h[2], signed[0], signed[1], six - 256 if six > 127 else six)

    def values(self):
        self.send(0xF2, 1)
        self.send(0xF4, 0x25)
        time.sleep_ms(_TAKES)
        data = self.register(0xF7, 8)
        fine = self.warm(data[3] << 12 | data[4] << 4 | data[5] >> 4)
        pressure = self.press(data[0] << 12 | data[1] << 4 | data[2] >> 4, fine)
        return round(fine / 5120, 2), round(self.damp(data[6] << 8 | data[7], fine), 1), round(pressure, 0)

    def damp(self, raw, fine):
        # %RH
        h = self.wet
        value = fine - 76800
        value = (raw - (h[3] * 64 + h[4] / 16384 * value)) * (
            h[1] / 65536 * (1 + h[5] / 67108864 * value * (1 + h[2] / 67108864 * value))
        )
        value *= 1 - h[0] * value / 524288
        return min(100, max(0, value))
