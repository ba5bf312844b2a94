# How often, how long or how much, altogether and today; kept through power cuts.
from micropython import const
import time

from loop import Part
from store import store_of
from values import number

_SAVES = const(300000)  # ms between two keepings: flash wears
_MINUTE = const(60000)
_TIMES = const(0)
_SPAN = const(1)


class Tally(Part):
    def __init__(self, d, name, counts, daily):
        super().__init__(d, name)
        self.counts = counts
        self.props = ("total", "today") if daily else ("total",)
        found = store_of(d).kept.get(name)
        self.total = self.today = 0
        self.of_day = None
        try:
            self.total, self.today = number(found[0]), number(found[1])  # type: ignore
            self.of_day = found[2]  # type: ignore
        except (TypeError, ValueError, IndexError, KeyError):  # nothing kept, or not by us
            pass
        self.was = self.read = None
        self.since = self.saved = time.ticks_ms()
        if daily:
            d.listen("@day", self.midnight)

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
            more = value - before
        if more:
            self.grow(more)
        ended = before and not value
        if more or ended:
            self.keep(ended or self.counts == _TIMES or time.ticks_diff(now, self.saved) >= _SAVES)

    def grow(self, more):
        self.total = round(self.total + more, 3)
        self.d.changed(self, "total")
        if len(self.props) > 1:
            self.today = round(self.today + more, 3)
            self.d.changed(self, "today")

    def keep(self, soon):
        kept = [self.total, self.today, self.of_day]
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
            self.today = 0
            self.d.changed(self, "today")
        self.of_day = day
        self.keep(True)

    def do(self, action, *given):
        if action != "clear" or given:
            return False
        self.weigh()
        self.total = self.today = 0
        for name in self.props:
            self.d.changed(self, name)
        self.keep(True)
        return True
