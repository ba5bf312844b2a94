# How long a button was down, in s, known when it comes up.
import time


class Lasting:
    def __init__(self, d, part):
        self.d = d
        self.part = part
        self.inner = part.turn
        self.begun = time.ticks_ms()
        part.turn = self.turn
        part.props += ("lasted",)
        part.lasted = None

    def turn(self):
        part = self.part
        now = time.ticks_ms()
        if part.state:
            part.lasted = round(time.ticks_diff(now, self.begun) / 1000, 1)
            self.d.changed(part, "lasted")
        else:
            self.begun = now
        self.inner()
