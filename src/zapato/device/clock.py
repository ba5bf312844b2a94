# The time of day: asked from a time server (SNTP, RFC 4330), kept by the chip's counter, told in the site's zone.
# Zone rules and the table of the sun come from the desk (lang/zones.py, design/sun.py): no float of a small chip is in them.
# Years are counted from 2000, and each fourth is a leap year: until February 2100.
# An hour left out in spring rings at its end, one that comes twice rings once, what was missed without time or power stays missed.
from micropython import const
import random
import time

from names import Names

_JOINS = const(1000)  # ms between two looks whether there is a network
_FIRST = const(30000)  # ms from the first question to the next, where no answer comes: a name and the time take 20 s at the most
_RARELY = const(600000)  # twice as long each time, at most this
_FRESH = const(21600000)  # ms until the time is asked anew: a crystal is a second off by then
_DAY = const(86400)
_EPOCH = const(36524)  # days from 1900, where the servers count from, to 2000
_NEAR = const(180)  # minutes that the time of day may jump, as in spring and autumn
_NONE = const(0xFFFF)


class Clock(Names):
    day = None  # local days since 2000-01-01, a Saturday; None while nobody has told the time
    minute = 0  # local, after midnight
    server = ""
    handled = None  # the minute up to which everything rang
    utc = second = 0
    shift = 0  # s that the summer adds
    pause = _FIRST
    again = ticking = None
    year = (-1, 0, 0)

    def __init__(self, d, zone, sun):
        super().__init__(d)
        self.zone = zone
        self.sun = sun
        self.rings = []
        self.since = time.ticks_ms()
        d.starts.append(self.join)

    # --- asking

    def join(self):
        net = self.d.net
        if not net:
            return
        if not net.joined:
            self.d.after(_JOINS, self.join)
            return
        # Whatever comes of this question, no memory for it among the rest, the next one is due.
        self.again = self.d.after(self.pause, self.join)
        self.pause = min(self.pause * 2, _RARELY)
        if self.server.replace(".", "").isdigit():
            self.call(self.server)
        else:
            self.ask(self.server, self.call)

    def call(self, address):
        if not address:
            self.hear(None)
            return
        self.close()
        self.question = bytearray(48)
        self.question[0] = 0x23  # version 4, a client
        for at in range(40, 48):  # comes back with the answer, so nobody else can give one
            self.question[at] = random.getrandbits(8)
        self.place = (address, 123)
        self.told = self.hear
        self.count = 0
        self.look()

    def answer(self, data):
        if self.place[1] == 53:
            return super().answer(data)
        if len(data) < 48 or data[24:32] != self.question[40:48] or data[0] & 7 != 4:
            return False
        return data[40:48] if data[0] < 0xC0 and 0 < data[1] < 16 else None

    def hear(self, data):
        if not data:
            if self.pause == 2 * _FIRST:
                self.d.note(self.server + " does not tell the time")
            return
        self.d.cancel(self.again)
        self.pause = _FIRST
        self.again = self.d.after(_FRESH, self.join)
        days, second = divmod(int.from_bytes(data[:4], "big"), _DAY)
        if days < _EPOCH:  # the servers' count begins anew in 2036
            days, second = divmod(int.from_bytes(b"\1" + data[:4], "big"), _DAY)
        first = self.day is None
        self.set(days - _EPOCH, second, data[4] * 1000 >> 8)
        if first:
            print("the time is known: %02d:%02d" % (self.minute // 60, self.minute % 60))

    def set(self, day, second, ms):
        self.utc = day
        self.second = second
        self.since = time.ticks_add(time.ticks_ms(), -ms)
        self.tick()

    # --- telling

    def go_on(self):
        passed = time.ticks_diff(time.ticks_ms(), self.since) // 1000
        self.since = time.ticks_add(self.since, passed * 1000)
        self.second += passed
        while self.second >= _DAY:
            self.second -= _DAY
            self.utc += 1

    def summer(self):
        # s to add to the standard time, now.
        if len(self.zone) < 2:
            return 0
        here = self.utc * 1440 + (self.second + self.zone[0]) // 60  # local minutes of standard time
        year = here // 360 // 1461
        if self.year[0] != year:
            more = self.zone[1] - self.zone[0]
            self.year = (year, self.change(year, self.zone[2]), self.change(year, self.zone[3]) - more // 60)
        begins, ends = self.year[1:]
        inside = begins <= here < ends if begins < ends else not ends <= here < begins
        return self.zone[1] - self.zone[0] if inside else 0

    def change(self, year, rule):
        # Local minutes since 2000 of the change in this year: the first such weekday from a day of the year on.
        day, weekday, minute = rule
        day += 365 * year + (year + 3) // 4 + (day > 58 and not year % 4)
        return (day + (weekday - day - 6) % 7) * 1440 + minute

    def tick(self):
        # Once a minute, at its beginning.
        self.d.cancel(self.ticking)
        self.go_on()
        self.shift = self.summer()
        second = self.second + self.zone[0] + self.shift
        day = self.utc + second // _DAY
        second %= _DAY
        ms = time.ticks_diff(time.ticks_ms(), self.since)
        self.ticking = self.d.after((60 - second % 60) * 1000 - ms, self.tick)
        later = day != self.day
        self.day = day
        self.minute = second // 60
        if later:
            self.d.hear("@", "day", 0)
        self.d.hear("@", "minute", 0)
        self.catch_up(day * 1440 + self.minute)

    def catch_up(self, now):
        # Years are counted from 2000, and each fourth is a leap year: until February 2100.
# An hour left out in spring rings all at once, one that comes twice rings once; nothing before the start does.
        before = self.handled
        if before is None or not -_NEAR <= now - before <= _NEAR:
            self.handled = now
            return
        for handled in range(before + 1, now + 1):
            self.handled = handled
            day, minute = divmod(handled, 1440)
            for moments, days, link in self.rings:
                if days >> (day + 5) % 7 & 1:
                    for each in moments:
                        if self.at(each, day) == minute:
                            self.d.guard(link.fire)

    def ring(self, moments, days, link):
        self.rings.append((moments, days, link))

    # --- what conditions ask

    def at(self, moment, day):
        # The minute of a moment on a day: (0, minutes after midnight), (1 or 2, minutes from the sun's rising or setting).
        of, minutes = moment
        if not of:
            return minutes
        year = day * 4 // 1461
        week, rest = divmod(day - 365 * year - (year + 3) // 4, 7)
        at = week * 4 + (of - 1) * 2
        one = self.sun[at] << 8 | self.sun[at + 1]
        two = self.sun[at + 4] << 8 | self.sun[at + 5]
        if one >= 1440 or two >= 1440:
            one = one if rest < 4 else two
            if one >= 1440:
                return -1 if one == _NONE else one
        else:
            one = (one * (7 - rest) + two * rest + 3) // 7
        return (one + minutes + self.shift // 60) % 1440

    def between(self, begin, end):
        first = self.at(begin, self.day)
        last = self.at(end, self.day)
        if first <= last:
            return first <= self.minute < last
        return self.minute >= first or self.minute < last

    def weekday(self, days):
        return bool(days >> ((self.day or 0) + 5) % 7 & 1)
