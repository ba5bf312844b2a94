# Values that outlive a power cut: a small JSON file, replaced whole, written only so often.
import json
import os

from micropython import const

_KEPT_IN = "kept.json"
_SOON = const(300)  # ms from a change to its writing
_REST = const(10000)  # ms between two writings at the least


class Store:
    def __init__(self, d):
        self.d = d
        self.timer = None
        self.resting = None
        self.kept = {}
        try:
            with open(_KEPT_IN) as file:
                found = json.load(file)
            if isinstance(found, dict):
                self.kept = found
        except (OSError, ValueError):
            pass

    def put(self, key, value):
        # The last value wins: what changes again before it is written costs the flash nothing.
        self.kept[key] = value
        if self.timer is None:
            self.timer = self.d.after(_REST if self.resting else _SOON, self.save)

    def save(self):
        self.timer = None
        self.d.cancel(self.resting)
        self.resting = self.d.after(_REST, self.rested)
        with open(_KEPT_IN + ".new", "w") as file:
            json.dump(self.kept, file)
        os.rename(_KEPT_IN + ".new", _KEPT_IN)

    def rested(self):
        self.resting = None


def store_of(d):
    if d.store is None:
        d.store = Store(d)
    return d.store
