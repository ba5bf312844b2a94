# A blind on two outputs: it knows where it is by the time it ran, and keeps that through a power cut.
# Where its place is unknown the first run goes to an end; runs to an end last a tenth longer, so that the ends stay true.
from micropython import const
import time

from loop import Part
from pins import output_pin
from store import store_of
from values import number

_APART_MS = const(500)  # ms between the two directions
_TELL = const(1000)  # ms between two tellings of where it is
_MORE = const(10)  # a run to an end goes on for this part of the travel, so that the ends are true


class Blind(Part):
    props = ("position",)
    sets = ("position",)

    def __init__(self, d, name, opens, closes, active, travel):
        super().__init__(d, name)
        self.active = active
        self.travel = travel
        self.pins = [output_pin(d, each, 1 - active) for each in (opens, closes)]
        found = store_of(d).kept.get(name)
        self.position = found if isinstance(found, (int, float)) and 0 <= found <= 100 else None
        self.way = 0  # 1 opens, -1 closes
        self.timer = self.telling = None
        self.resting = False
        self.wanted = None

    def mark(self):
        return self.position

    def where(self):
        # The position now; while it moves, by the time since it began.
        if self.way and self.begun[1] is not None:
            ran = time.ticks_diff(time.ticks_ms(), self.begun[0]) * 100 / self.travel
            return min(100, max(0, self.begun[1] + self.way * ran))
        return self.position

    def drive(self, way):
        self.pins[0].value(self.active if way > 0 else 1 - self.active)
        self.pins[1].value(self.active if way < 0 else 1 - self.active)

    def tell(self):
        self.have(self.where())

    def have(self, position):
        if position is not None:
            position = round(position, 1)
        if position != self.position:
            self.position = position
            self.d.changed(self, "position")

    def stop(self):
        if not self.way:
            return
        here = self.where()
        self.drive(0)
        self.d.cancel(self.timer)
        self.d.cancel(self.telling)
        self.way = 0
        self.resting = True
        self.timer = self.d.after(_APART_MS, self.rested)
        self.settle_at(here)

    def settle_at(self, position):
        self.have(position)
        self.keep(self.position)
        self.d.emit(self, "moved")

    def keep(self, position):
        # Written at once: it happens seldom, and is wrong where it is old.
        store = self.d.store
        store.kept[self.name] = position
        self.d.cancel(store.timer)
        store.timer = self.d.after(1, store.save)

    def rested(self):
        self.resting = False
        if self.wanted is not None:
            wanted, self.wanted = self.wanted, None
            self.run(wanted)

    def go(self, position):
        self.stop()
        if self.resting:
            self.wanted = position
        else:
            self.run(position)

    def run(self, position):
        here = self.position
        if here is None:  # where it is shows only at an end
            way, left = (1, 100) if position >= 50 else (-1, 100)
        else:
            left = abs(position - here)
            way = 1 if position > here else -1
            if position in (0, 100):
                way = 1 if position else -1
        ms = int(left * self.travel / 100)
        if here is None or position in (0, 100):
            ms += self.travel // _MORE
        if ms <= 0:
            return
        self.way = way
        self.keep(None)  # if the power goes now, nobody knows where it is
        self.begun = (time.ticks_ms(), here)
        self.drive(way)
        self.aim = (position, here is None)
        self.timer = self.d.after(ms, self.arrived)
        self.telling = self.d.every(_TELL, self.tell)

    def arrived(self):
        position, blind = self.aim
        self.begun = (time.ticks_ms(), (100 if self.way > 0 else 0) if blind else position)
        if blind and position not in (0, 100):
            self.wanted = position  # it is at an end now, and goes on from there
        self.stop()

    def take(self, name, value):
        self.set(name, number(value, 0, 100))

    def set(self, name, value):
        self.wanted = None
        self.go(min(100, max(0, number(value))))

    def do(self, action, *given):
        if action == "go" and len(given) == 1:
            self.take("position", given[0])
        elif action in ("open", "close") and not given:
            self.set("position", 100 if action == "open" else 0)
        elif action == "stop" and not given:
            self.wanted = None
            self.stop()
        else:
            return False
        return True
