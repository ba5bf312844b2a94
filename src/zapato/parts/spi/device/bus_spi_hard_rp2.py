# An SPI bus on a controller of the chip: the pins say which (RP2040 datasheet, GPIO functions: groups of eight take turns).
from machine import SPI, Pin

from bus_spi import SpiBus


class HardSpiBus(SpiBus):
    def open(self, sck, mosi, miso, speed):
        return SPI(sck >> 3 & 1, baudrate=speed, sck=Pin(sck), mosi=Pin(mosi), miso=Pin(miso))
