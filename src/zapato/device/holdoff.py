# An input that, once it has changed, does not change again for a while.


class HoldOff:
    def __init__(self, d, part, ms):
        self.d = d
        self.part = part
        self.ms = ms
        self.resting = None
        self.inner = part.turn
        part.turn = self.turn

    def turn(self):
        if self.resting is None:
            self.inner()
            self.resting = self.d.after(self.ms, self.rested)

    def rested(self):
        self.resting = None
        self.part.begin()
