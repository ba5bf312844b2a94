# DS18B20: every sensor of the line converts at once, and is read 800 ms later (datasheet, Memory and Commands).
from micropython import const

from sensor import Sensor

_CONVERTS = const(800)  # ms: 750 at 12 bits


class Ds18b20(Sensor):
    props = ("temperature",)
    temperature = None

    def __init__(self, d, name, every, change, bus, serial):
        self.bus = d.parts[bus]
        self.serial = serial
        self.hot = False
        super().__init__(d, name, every, change)

    def read(self):
        wire = self.bus.wire
        if wire.reset():
            wire.writebyte(0xCC)
            wire.writebyte(0x44)
        self.d.after(_CONVERTS, super().read)

    def rom(self):
        if self.serial:
            return bytes([int(self.serial[at : at + 2], 16) for at in range(0, 16, 2)])
        if len(self.bus.roms) != 1:
            self.bus.scan()
            if len(self.bus.roms) != 1:
                raise ValueError("%d answer on the line, so its serial is needed" % len(self.bus.roms))
        return self.bus.roms[0]

    def measure(self):
        wire = self.bus.wire
        if not wire.reset():
            raise OSError("nobody answers on the line")
        wire.select_rom(self.rom())
        wire.writebyte(0xBE)
        data = bytes([wire.readbyte() for _ in range(9)])
        if data == b"\xff" * 9 or wire.crc8(data):
            raise ValueError("the check sum is wrong")
        if data[4] & 0x9F != 0x1F:  # nine zeros of a shorted line have a right check sum, too
            raise ValueError("no sensor's bytes: the line is shorted, perhaps")
        raw = data[0] | data[1] << 8
        if raw == 0x0550 and not self.hot:  # 85 degrees are what it says after its power was away, too
            self.hot = True
            if self.temperature is None or abs(self.temperature - 85) > 5:
                raise ValueError("it lost its power and has not measured yet")
        self.hot = raw == 0x0550
        return (round((raw - 65536 if raw & 0x8000 else raw) / 16, 2),)
