# A dimmer that comes back after a power cut as it was.
from dimmer import Dimmer
from store import store_of


class PersistedDimmer(Dimmer):
    def __init__(self, d, name, gpio, active, on, rate, gamma):
        super().__init__(d, name, gpio, active, False, rate, gamma)
        found = store_of(d).kept.get(name)
        if isinstance(found, list) and len(found) == 2 and isinstance(found[1], (int, float)) and 0 < found[1] <= 100:
            self.on = found[0] is True
            self.level = found[1]
            self.give(self.level if self.on else 0)

    def go(self, level, ms=0):
        super().go(level, ms)
        self.d.store.put(self.name, [self.on, self.level])
