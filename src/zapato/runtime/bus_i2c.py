# An I2C bus in software: it can be on any pins of every port.
from machine import Pin, SoftI2C

from loop import Part


class Bus(Part):
    props = ("found",)

    def __init__(self, d, name, sda, scl, speed):
        super().__init__(d, name)
        self.found = None
        self.sda = Pin(sda)
        self.i2c = self.open(sda, scl, speed)
        d.after(20, self.scan)

    def open(self, sda, scl, speed):
        return SoftI2C(scl=Pin(scl), sda=Pin(sda), freq=speed)

    def rests(self):
        # A data line that is held low acknowledges everything and reads zeros, which are a value to many a chip.
        if not self.sda.value():
            raise OSError("the data line is held low")

    def scan(self):
        self.found = " ".join(["0x%02x" % address for address in (self.i2c.scan() if self.sda.value() else ())])
        self.d.changed(self, "found")
        self.d.note(self.name + " found " + (self.found or "nothing"))

    def do(self, action, *given):
        if action != "scan" or given:
            return False
        self.scan()
        return True
