# An active buzzer: beeps are counted down, one tone and one pause each.
from output import Output
from values import number


class Buzzer(Output):
    props = ("on", "left")

    def __init__(self, d, name, gpio, active, on, tone):
        super().__init__(d, name, gpio, active, on)
        self.tone = tone
        self.left = 0

    def do(self, action, *given):
        if action != "beep":
            self.count(0)
            return super().do(action, *given)
        self.count(int(number(given[0], 1, 100)))
        self.d.cancel(self.timer)
        self.sound()
        return True

    def count(self, left):
        if left != self.left:
            self.left = left
            self.d.changed(self, "left")

    def sound(self):
        self.switch(True)
        self.timer = self.d.after(self.tone, self.pause)

    def pause(self):
        self.switch(False)
        self.count(self.left - 1)
        self.timer = self.d.after(self.tone, self.sound) if self.left else None
