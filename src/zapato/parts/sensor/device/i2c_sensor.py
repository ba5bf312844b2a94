# What sensors on I2C share: a start that is tried again.
from sensor import Sensor


class I2cSensor(Sensor):
    def __init__(self, d, name, every, change, bus, address):
        self.bus = d.parts[bus]
        self.i2c = self.bus.i2c
        self.address = address
        self.begun = False
        super().__init__(d, name, every, change)

    def begin(self):
        pass

    def early(self, ms):
        # Begun at once, for the chip to have something after so many ms.
        try:
            self.begin()
            self.begun = True
        except OSError:
            pass
        return ms

    def send(self, *data):
        self.i2c.writeto(self.address, bytes(data))

    def get(self, size):
        return self.i2c.readfrom(self.address, size)

    def measure(self):
        try:
            self.bus.rests()
            if not self.begun:
                self.begin()
                self.begun = True
            found = self.values()  # type: ignore
            self.bus.rests()  # a line that fell meanwhile read as zeros
            return found
        except OSError:
            self.begun = False
            raise
