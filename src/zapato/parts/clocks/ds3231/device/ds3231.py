# DS3231: UTC in seven registers of BCD; the oscillator's stop flag tells whether it may be believed.
from dates import day_of
from dates import date_of
from loop import Part


def _in_bcd(value):
    return value // 10 << 4 | value % 10


def _of_bcd(byte):
    return (byte >> 4) * 10 + (byte & 15)


class Ds3231(Part):
    props = ("kept",)

    def __init__(self, d, name, bus, address):
        super().__init__(d, name)
        self.i2c = d.parts[bus].i2c
        self.address = address
        self.kept = None
        self.inner = d.clock.set
        d.clock.set = self.set_time
        d.after(30, self.begin)

    def get(self, register, size):
        self.i2c.writeto(self.address, bytes((register,)))
        return self.i2c.readfrom(self.address, size)

    def have(self, kept):
        if kept != self.kept:
            self.kept = kept
            self.d.changed(self, "kept")

    def begin(self):
        try:
            stopped = self.get(0x0F, 1)[0] & 0x80
            row = self.get(0, 7)
        except OSError:
            self.d.note(self.name + " does not answer")
            return
        second, minute, hour, _, date, month, year = [_of_bcd(byte & 0x7F) for byte in row]
        hour = _of_bcd(row[2] & 0x3F)
        month = _of_bcd(row[5] & 0x1F)
        sane = second < 60 and minute < 60 and hour < 24 and 0 < date < 32 and 0 < month < 13 and year < 100
        self.have(bool(sane and not stopped))
        if not self.kept:
            self.d.note(self.name + " has lost the time")
        elif self.d.clock.day is None:
            self.inner(day_of(2000 + year, month, date), hour * 3600 + minute * 60 + second, 0)
            clock = self.d.clock
            print("the time is known from %s: %02d:%02d" % (self.name, clock.minute // 60, clock.minute % 60))

    def set_time(self, day, second, ms):
        # The network told the time: the chip gets it, too.
        self.inner(day, second, ms)
        year, month, date = date_of(day)
        row = (second % 60, second // 60 % 60, second // 3600, (day + 5) % 7 + 1, date, month, year - 2000)
        try:
            self.i2c.writeto(self.address, b"\x00" + bytes([_in_bcd(each) for each in row]))
            self.i2c.writeto(self.address, b"\x0f\x00")
        except OSError:
            return
        self.have(True)
