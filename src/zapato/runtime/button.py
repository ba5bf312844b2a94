# A push button: a switch that also tells holding and pressing twice.
import time

from switch import Switch


class Button(Switch):
    def __init__(self, d, name, gpio, pull, active, settle, poll, hold, double):
        super().__init__(d, name, gpio, pull, active, settle, poll, "down", "pressed", "released")
        self.hold = hold
        self.double = double
        self.last = None
        self.holding = None

    def moved(self, level):
        self.d.cancel(self.holding)
        if not level:
            return
        self.holding = self.d.after(self.hold, self.held)
        now = time.ticks_ms()
        if self.last is not None and time.ticks_diff(now, self.last) <= self.double:
            self.last = None
            self.d.emit(self, "doubled")
        else:
            self.last = now

    def held(self):
        self.d.emit(self, "held")
