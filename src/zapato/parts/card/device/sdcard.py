# An SD card on SPI as blocks of 512 bytes (SD Physical Layer Simplified Specification, chapter 7: SPI Mode).
# The file system above these blocks is the port's own (VfsFat).
from micropython import const
import time

_SLOW = const(400000)  # Hz while it is identified, at the most (chapter 4.2, f_OD)
_BLOCK = const(512)
_BEGIN = const(0xFE)  # the token before a block
_TAKEN = const(0x05)
_SLOWEST = const(500)  # ms: a block is read within 100 and written within 250 (section 4.6.2)


class SdCard:
    def __init__(self, bus, select, speed):
        self.d = bus.d
        self.spi = bus.spi
        self.select = bus.select(select)
        self.speed = speed
        self.frame = bytearray(6)
        self.one = bytearray(1)
        self.blocks = 0
        self.each = 1  # what the number of a block is multiplied by: old cards count bytes

    def begin(self):
        # Wake it up; OSError where there is none.
        self.spi.init(baudrate=_SLOW)
        try:
            self.select(1)
            self.spi.write(b"\xff" * 12)
            for _ in range(5):
                if self.ask(0, 0, 0x95) == 1:
                    break
            else:
                raise OSError(19)
            new = self.ask(8, 0x1AA, 0x87, 4) == 1
            until = time.ticks_add(time.ticks_ms(), 1000)
            while True:
                self.ask(55, 0)
                if not self.ask(41, 0x40000000 if new else 0):
                    break
                if time.ticks_diff(until, time.ticks_ms()) < 0:
                    raise OSError(110)
                time.sleep_ms(10)
            self.each = _BLOCK
            if new and self.ask(58, 0, 0xFF, 4) == 0 and self.answer[0] & 0x40:
                self.each = 1
            if self.each != 1 and self.ask(16, _BLOCK):
                raise OSError(5)
            self.blocks = self.measure()
        finally:
            self.spi.init(baudrate=self.speed)

    def measure(self):
        # How many blocks it has, by its CSD register (section 5.3).
        row = bytearray(16)
        self.get(9, 0, row)
        if row[0] >> 6 == 1:
            return (((row[7] & 63) << 16 | row[8] << 8 | row[9]) + 1) * 1024
        size = (row[6] & 3) << 10 | row[7] << 2 | row[8] >> 6
        shift = ((row[9] & 3) << 1 | row[10] >> 7) + 2 + (row[5] & 15) - 9
        return (size + 1) << shift

    def ask(self, number, given, check=0xFF, more=0, stay=False):
        # A command and its first answer; `more` bytes of it are kept in `answer`. Many in a row may take longer than the
        # watchdog waits, and each of them comes to an end.
        if self.d.dog:
            self.d.dog.feed()
        frame = self.frame
        frame[0] = 0x40 | number
        for at in range(4):
            frame[1 + at] = given >> (24 - 8 * at) & 255
        frame[5] = check
        self.select(0)
        self.spi.write(b"\xff")
        self.spi.write(frame)
        for _ in range(10):
            found = self.get_one()
            if not found & 0x80:
                break
        else:
            self.leave()
            raise OSError(19)
        if more:
            self.answer = self.spi.read(more, 0xFF)
        if not stay:
            self.leave()
        return found

    def get_one(self):
        self.spi.readinto(self.one, 0xFF)
        return self.one[0]

    def leave(self):
        self.select(1)
        self.spi.write(b"\xff")

    def until(self, wanted):
        # Wait until this byte comes.
        last = time.ticks_add(time.ticks_ms(), _SLOWEST)
        while self.get_one() != wanted:
            if time.ticks_diff(last, time.ticks_ms()) < 0:
                raise OSError(110)

    def get(self, number, given, row):
        if self.ask(number, given, stay=True):
            self.leave()
            raise OSError(5)
        try:
            self.until(_BEGIN)
            self.spi.readinto(row, 0xFF)
            self.spi.write(b"\xff\xff")
        finally:
            self.leave()

    # --- what a file system asks for

    def readblocks(self, number, row):
        row = memoryview(row)
        for at in range(0, len(row), _BLOCK):
            self.get(17, number * self.each, row[at : at + _BLOCK])
            number += 1

    def writeblocks(self, number, row):
        row = memoryview(row)
        for at in range(0, len(row), _BLOCK):
            if self.ask(24, number * self.each, stay=True):
                self.leave()
                raise OSError(5)
            try:
                self.spi.write(b"\xff\xfe")
                self.spi.write(row[at : at + _BLOCK])
                self.spi.write(b"\xff\xff")
                if self.get_one() & 0x1F != _TAKEN:
                    raise OSError(5)
                self.until(0xFF)
            finally:
                self.leave()
            number += 1

    def ioctl(self, what, given):
        return self.blocks if what == 4 else _BLOCK if what == 5 else 0
