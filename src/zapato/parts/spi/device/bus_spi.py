# An SPI bus in software. Chips with registers are read and written as on an I2C bus; their select pin is their address.
from machine import Pin, SoftSPI

from loop import Part


class SpiBus(Part):
    def __init__(self, d, name, sck, mosi, miso, speed):
        super().__init__(d, name)
        self.spi = self.open(sck, mosi, miso, speed)
        self.selects = {}
        self.at = 0
        self.i2c = self

    def rests(self):
        pass

    def open(self, sck, mosi, miso, speed):
        return SoftSPI(baudrate=speed, sck=Pin(sck), mosi=Pin(mosi), miso=Pin(miso))

    def select(self, gpio):
        if gpio not in self.selects:
            self.selects[gpio] = Pin(gpio, Pin.OUT, value=1)
        return self.selects[gpio]

    def writeto(self, gpio, data):
        # One byte names the register that is read next; more are written from the first on (bit 7 clear).
        self.at = data[0] | 0x80
        if len(data) > 1:
            self.exchange(gpio, bytes((data[0] & 0x7F,)) + data[1:], 0)

    def readfrom(self, gpio, size):
        return self.exchange(gpio, bytes((self.at,)), size)

    def exchange(self, gpio, data, size):
        chosen = self.select(gpio)
        chosen.value(0)
        try:
            self.spi.write(data)
            return self.spi.read(size) if size else b""
        finally:
            chosen.value(1)
