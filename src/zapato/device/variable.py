# A value that links and the network set: a flag or a number.
from loop import Part
from values import number, truth


class Variable(Part):
    def __init__(self, d, name, prop, start, low, high):
        super().__init__(d, name)
        self.prop = prop
        self.props = self.sets = (prop,)
        self.low = low
        self.high = high
        setattr(self, prop, start)

    def take(self, name, value):
        if self.prop != "on":
            number(value, self.low, self.high)
        self.set(name, value)

    def set(self, name, value):
        if self.prop == "on":
            value = truth(value)
        else:
            number(value)
            if self.low is not None and value < self.low:
                value = self.low
            if self.high is not None and value > self.high:
                value = self.high
        if value != getattr(self, name):
            setattr(self, name, value)
            self.d.changed(self, name)

    def do(self, action, *given):
        if action != "set" or len(given) != 1:
            return False
        self.take(self.prop, given[0])
        return True
