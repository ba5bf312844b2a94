# A relay that excludes others, and comes back after a power cut as it was.
from relay import Relay
from store import store_of


class PersistedRelay(Relay):
    def __init__(self, d, name, gpio, active, on, excludes):
        super().__init__(d, name, gpio, active, store_of(d).kept.get(name) is True, excludes)

    def switch(self, on):
        was = self.on
        super().switch(on)
        if self.on != was:
            self.d.store.put(self.name, self.on)
