# What sensors on a one-wire bus share: each is told to measure, and read when that has taken its time.
from sensor import Sensor


class WireSensor(Sensor):
    converts = 0  # ms

    def __init__(self, d, name, every, change, bus, serial):
        self.bus = d.parts[bus]
        self.serial = serial
        super().__init__(d, name, every, change)

    def convert(self):
        pass

    def read(self):
        try:
            self.convert()
        except (OSError, ValueError):
            pass  # the reading tells it
        self.d.after(self.converts, super().read)

    def rom(self):
        if self.serial:
            return bytes([int(self.serial[at : at + 2], 16) for at in range(0, 16, 2)])
        if len(self.bus.roms) != 1:
            self.bus.scan()
            if len(self.bus.roms) != 1:
                raise ValueError("%d answer on the line, so its serial is needed" % len(self.bus.roms))
        return self.bus.roms[0]

    def send(self, *data):
        wire = self.bus.wire
        if not wire.reset():
            raise OSError("nobody answers on the line")
        wire.select_rom(self.rom())
        for byte in data:
            wire.writebyte(byte)

    def get(self, size):
        data = bytes([self.bus.wire.readbyte() for _ in range(size)])
        if data == bytes(size):  # zeros have a right check sum, too
            raise OSError("the line is held low")
        return data
