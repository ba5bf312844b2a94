# An SPI bus on a controller of the chip: each takes the next one.
from machine import SPI, Pin

from bus_spi import SpiBus


class HardSpiBus(SpiBus):
    taken = 1

    def open(self, sck, mosi, miso, speed):
        number = HardSpiBus.taken
        HardSpiBus.taken += 1
        return SPI(number, baudrate=speed, sck=Pin(sck), mosi=Pin(mosi), miso=Pin(miso))
