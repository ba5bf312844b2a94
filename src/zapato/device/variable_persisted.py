# A flag or a number that comes back after a power cut as it was.
from variable import Variable
from store import store_of


class PersistedVariable(Variable):
    def __init__(self, d, name, prop, start, low, high):
        super().__init__(d, name, prop, start, low, high)
        try:
            self.take(prop, store_of(d).kept[name])
        except (KeyError, ValueError):  # never set, or no longer what it may be
            pass

    def set(self, name, value):
        was = getattr(self, name)
        super().set(name, value)
        value = getattr(self, name)
        if value != was and self.d.store.kept.get(self.name) != value:
            self.d.store.put(self.name, value)
