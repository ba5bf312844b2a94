# How often, how long or how much, altogether and today; kept through power cuts.
# What it watches comes by watch() after every part is there, so the order of parts in the file does not matter.
from micropython import const
import time

from loop import Part
from store import store_of
from values import number

_SAVES = const(300000)  # ms between two keepings: flash wears
_MINUTE = const(60000)
_TIMES = const(0)
_SPAN = const(1)
_GROWTH = const(2)


class Tally(Part):
    def __init__(self, d, name, counts, daily):
        super().__init__(d, name)
        self.counts = counts
        self.props = ("total", "today") if daily else ("total",)
        # Amounts are whole thousandths: a float of 30 or 32 bits stops growing where a step is less than its last digit.
        self.unit = 1000 if counts == _GROWTH else 1
        found = store_of(d).kept.get(name)
        self.sums = [0, 0]
        self.of_day = None
        try:
            unit = self.unit if len(found) < 4 else 1  # type: ignore  # an earlier version kept units
            self.sums = [round(number(each) * unit) for each in found[:2]]  # type: ignore
            self.of_day = found[2]  # type: ignore
        except (TypeError, ValueError, IndexError, KeyError):  # nothing kept, or not by us
            pass
        self.total, self.today = self.amount(0), self.amount(1)
        self.was = self.read = None
        self.since = self.saved = time.ticks_ms()
        if daily:
            d.listen("@.day", self.midnight)

    def watch(self, read, known, reads, rearm=None):
        self.read = read
        for key in reads:
            self.d.listen(key, self.weigh)
        self.d.starts.append(self.weigh)
        if self.counts == _SPAN:
            self.d.every(_MINUTE, self.weigh)

    def weigh(self):
        # What was before counts until now; what is unknown counts for nothing.
        value = self.read()  # type: ignore
        before, self.was = self.was, value
        more = 0
        now = time.ticks_ms()
        if self.counts == _SPAN:
            if before:
                more = time.ticks_diff(now, self.since) // 1000
            self.since = time.ticks_add(self.since, more * 1000) if before else now
        elif self.counts == _TIMES:
            more = 1 if value and before is False else 0
        elif value is None:
            self.was = before  # as after a silence: what it grew meanwhile counts
        elif before is not None and value > before:
            more = round((value - before) * self.unit)
            if not more:
                self.was = before  # too little yet: it adds up
        if more:
            self.grow(more)
        ended = before and not value
        if more or ended:
            self.keep(ended or self.counts == _TIMES or time.ticks_diff(now, self.saved) >= _SAVES)

    def amount(self, at):
        whole, part = divmod(self.sums[at], self.unit)
        return self.sums[at] / self.unit if part else whole

    def grow(self, more):
        self.sums[0] += more
        self.sums[1] += more
        self.told()

    def told(self):
        self.total = self.amount(0)
        self.d.changed(self, "total")
        if len(self.props) > 1:
            self.today = self.amount(1)
            self.d.changed(self, "today")

    def keep(self, soon):
        kept = self.sums + [self.of_day, self.unit]
        if soon:
            self.saved = time.ticks_ms()
            self.d.store.put(self.name, kept)
        else:
            self.d.store.kept[self.name] = kept

    def midnight(self):
        day = self.d.clock.day
        if day == self.of_day:
            return
        self.weigh()
        if self.of_day is not None:
            self.sums[1] = self.today = 0
            self.d.changed(self, "today")
        self.of_day = day
        self.keep(True)

    def do(self, action, *given):
        if action != "clear" or given:
            return False
        self.weigh()
        self.sums = [0, 0]
        self.told()
        self.keep(True)
        return True
