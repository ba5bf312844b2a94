# What sensors on I2C share: a start that is tried again, and check sums.
from sensor import Sensor


class I2cSensor(Sensor):
    def __init__(self, d, name, every, change, bus, address):
        self.i2c = d.parts[bus].i2c
        self.address = address
        self.begun = False
        super().__init__(d, name, every, change)

    def begin(self):
        pass

    def send(self, *data):
        self.i2c.writeto(self.address, bytes(data))

    def get(self, size):
        return self.i2c.readfrom(self.address, size)

    def measure(self):
        try:
            if not self.begun:
                self.begin()
                self.begun = True
            return self.values()
        except OSError:
            self.begun = False
            raise

    def values(self):
        raise NotImplementedError


def crc8(data, size):
    # Of `size` bytes and the check byte behind them: 0 where they fit (polynomial 0x31, begun with 0xff).
    crc = 255
    for at in range(size + 1):
        crc ^= data[at]
        for _ in range(8):
            crc = (crc << 1 ^ 0x31 if crc & 128 else crc << 1) & 255
    return crc


def words(data):
    # Sixteen bits each with its check byte.
    found = []
    for at in range(0, len(data), 3):
        if crc8(data[at : at + 3], 2):
            raise ValueError("the check sum is wrong")
        found.append(data[at] << 8 | data[at + 1])
    return found
