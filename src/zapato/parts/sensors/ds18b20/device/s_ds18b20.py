# DS18B20: every sensor of the line converts at once, and is read 800 ms later (datasheet, Memory and Commands).
from wire_sensor import WireSensor


class Ds18b20(WireSensor):
    props = ("temperature",)
    converts = 800  # ms: 750 at 12 bits
    temperature = None
    hot = False

    def convert(self):
        wire = self.bus.wire
        if wire.reset():
            wire.writebyte(0xCC)
            wire.writebyte(0x44)

    def measure(self):
        self.send(0xBE)
        data = self.get(9)
        if data == b"\xff" * 9 or self.bus.wire.crc8(data):
            raise ValueError("the check sum is wrong")
        if data[4] & 0x9F != 0x1F:
            raise ValueError("no sensor's bytes: the line is shorted, perhaps")
        raw = data[0] | data[1] << 8
        if raw == 0x0550 and not self.hot:  # 85 degrees are what it says after its power was away, too
            self.hot = True
            if self.temperature is None or abs(self.temperature - 85) > 5:
                raise ValueError("it lost its power and has not measured yet")
        self.hot = raw == 0x0550
        return (round((raw - 65536 if raw & 0x8000 else raw) / 16, 2),)
