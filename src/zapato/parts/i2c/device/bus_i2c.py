# An I2C bus in software: it can be on any pins of every port.
# In software by default: only buses with controller = "hardware" are bound to a chip's circuits and their pins.
from machine import Pin, SoftI2C

from loop import Part


class Bus(Part):
    props = ("found",)

    def __init__(self, d, name, sda, scl, speed):
        super().__init__(d, name)
        self.found = None
        self.sda = Pin(sda)
        self.scl = Pin(scl)
        self.i2c = self.open(sda, scl, speed)
        d.after(20, self.scan)

    def open(self, sda, scl, speed):
        return SoftI2C(scl=Pin(scl), sda=Pin(sda), freq=speed)

    def rests(self):
        # A data line that is held low acknowledges everything and reads zeros, which are a value to many a chip;
        # with the clock held low each call waits 50 ms.
        if not self.free():
            raise OSError("a line is held low")

    def free(self):
        return self.sda.value() and self.scl.value()

    def scan(self):
        self.found = " ".join(["0x%02x" % address for address in (self.i2c.scan() if self.free() else ())])
        self.d.changed(self, "found")
        self.d.note(self.name + " found " + (self.found or "nothing"))

    def do(self, action, *given):
        if action != "scan" or given:
            return False
        self.scan()
        return True
