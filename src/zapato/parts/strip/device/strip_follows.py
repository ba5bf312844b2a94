# A strip that is as bright as a number says, beside its own level.
from strip import Strip


class FollowingStrip(Strip):
    beat = 1
    value = None
    waits = None

    def watch(self, value, known, keys, rearm=None):
        self.value = value
        for key in keys:
            self.d.listen(key, self.heard)

    def heard(self):
        found = self.value()  # type: ignore
        self.beat = min(1, max(0, (found or 0) / 100))
        if self.on and self.effect == "still" and not self.waits:
            self.waits = self.d.after(self.pace, self.drawn)

    def drawn(self):
        self.waits = None
        if self.on and self.effect == "still":
            self.fill(1)
            self.lights.write()

    def fill(self, share):
        return super().fill(share * self.beat)
