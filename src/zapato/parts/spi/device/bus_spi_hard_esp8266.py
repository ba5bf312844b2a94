# An SPI bus on the chip's own controller, whose pins are fixed.
from machine import SPI

from bus_spi import SpiBus


class HardSpiBus(SpiBus):
    def open(self, sck, mosi, miso, speed):
        return SPI(1, baudrate=speed)
