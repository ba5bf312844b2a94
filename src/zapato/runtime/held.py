# A value that links and the network set: a flag or a number.


class Held:
    timed = ()

    def __init__(self, d, name, prop, start, low, high):
        self.d = d
        self.name = name
        self.prop = prop
        self.props = (prop,)
        self.sets = (prop,)
        self.low = low
        self.high = high
        setattr(self, prop, start)

    def set(self, name, value):
        if name != self.prop or value is None:
            return
        if self.prop == "on":
            value = bool(value)
        else:
            if self.low is not None and value < self.low:
                value = self.low
            if self.high is not None and value > self.high:
                value = self.high
        if value != getattr(self, name):
            setattr(self, name, value)
            self.d.changed(self, name)

    def do(self, action, value=None):
        if action != "set" or value is None:
            return False
        self.set(self.prop, value)
        return True
