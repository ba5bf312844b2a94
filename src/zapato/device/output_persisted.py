# An output that comes back after a power cut as it was.
from output import Output
from store import store_of


class PersistedOutput(Output):
    def __init__(self, d, name, gpio, active, on):
        super().__init__(d, name, gpio, active, store_of(d).kept.get(name) is True)

    def switch(self, on):
        was = self.on
        super().switch(on)
        if self.on != was:
            self.d.store.put(self.name, self.on)
