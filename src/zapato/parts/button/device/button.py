# A push button: a switch that also tells holding and pressing twice.
from switch import Switch


class Button(Switch):
    def __init__(self, d, name, gpio, pull, active, settle, poll, hold, double):
        super().__init__(d, name, gpio, pull, active, settle, poll, "down", "pressed", "released")
        self.hold = hold
        self.double = double
        self.again = None  # runs while a second press makes it two
        self.holding = None

    def moved(self, level):
        self.d.cancel(self.holding)
        if not level:
            return
        self.holding = self.d.after(self.hold, self.held)
        if self.again:
            self.alone()
            self.d.emit(self, "doubled")
        else:
            self.again = self.d.after(self.double, self.alone)

    def alone(self):
        self.d.cancel(self.again)
        self.again = None

    def held(self):
        self.d.emit(self, "held")
