# Stands in for the ports' onewire module: the line's answers come from the simulator, byte by byte.
from world import WIRE_READ, WIRE_RESET, WIRE_WRITE, ask, number


class OneWireError(Exception):
    pass


class OneWire:
    SEARCH_ROM, MATCH_ROM, SKIP_ROM = 0xF0, 0x55, 0xCC

    def __init__(self, pin):
        self.gpio = pin.gpio

    def reset(self, required=False):
        found = number(WIRE_RESET, self.gpio) == 1
        if required and not found:
            raise OneWireError
        return found

    def writebyte(self, value):
        number(WIRE_WRITE, self.gpio, value)

    def readbyte(self):
        return number(WIRE_READ, self.gpio)

    def write(self, data):
        for each in data:
            self.writebyte(each)

    def readinto(self, data):
        for at in range(len(data)):
            data[at] = self.readbyte()

    def select_rom(self, rom):
        self.reset()
        self.writebyte(0x55)
        self.write(rom)

    def scan(self):
        found = []
        while True:
            rom = ask("wire_search", "%d %d" % (self.gpio, len(found)))
            if not rom:
                return found
            found.append(bytearray([int(rom[at : at + 2], 16) for at in range(0, 16, 2)]))

    def crc8(self, data):
        crc = 0
        for byte in data:
            for _ in range(8):
                low = (crc ^ byte) & 1
                crc >>= 1
                if low:
                    crc ^= 0x8C
                byte >>= 1
        return crc
