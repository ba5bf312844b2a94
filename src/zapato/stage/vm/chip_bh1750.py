# A BH1750FVI on the bus: powered on, set to continuous mode, it gives counts of 1/1.2 lx.


class Chip:
    def __init__(self):
        self.light = None
        self.mode = 0

    def feel(self, name, quantity):
        self.light = quantity

    def write(self, data):
        if data[0] == 0x00:
            self.mode = 0
        elif data[0] in (0x10, 0x11, 0x13, 0x20, 0x21, 0x23):
            self.mode = data[0]

    def read(self, size):
        counts = min(int((self.light.get() or 0) * 1.2), 65535) if self.mode else 0
        return bytes([counts >> 8, counts & 255])[:size]
