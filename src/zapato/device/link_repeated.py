# A link that is done once and then again: so many times, or as long as its condition holds.
from links import Link


class RepeatedLink(Link):
    period = times = left = 0
    ticking = None

    def begin(self):
        super().begin()
        if not self.armed and not self.held:  # what holds at power-up counts from then
            self.left = self.times
            self.ticking = self.d.after(self.period, self.once)

    def weigh(self):
        super().weigh()
        if self.armed:
            self.rest()

    def rest(self):
        self.d.cancel(self.ticking)
        self.ticking = None

    def fire(self):
        self.rest()
        self.left = self.times
        self.once()

    def once(self):
        self.ticking = None
        super().fire()
        self.left -= 1
        if self.left:
            self.ticking = self.d.after(self.period, self.once)
