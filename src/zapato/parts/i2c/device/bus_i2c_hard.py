# An I2C bus on a controller of the chip: each takes the next one.
from machine import I2C, Pin

from bus_i2c import Bus


class HardBus(Bus):
    taken = 0

    def open(self, sda, scl, speed):
        number = HardBus.taken
        HardBus.taken += 1
        return I2C(number, scl=Pin(scl), sda=Pin(sda), freq=speed)
