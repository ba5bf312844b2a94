# An I2C bus on a controller of the chip: the pins say which (RP2040 datasheet, GPIO functions: pairs take turns).
from machine import I2C, Pin

from bus_i2c import Bus


class HardBus(Bus):
    def open(self, sda, scl, speed):
        return I2C(sda >> 1 & 1, scl=Pin(scl), sda=Pin(sda), freq=speed)
