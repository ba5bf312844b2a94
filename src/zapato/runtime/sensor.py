# What all sensors share: a period, failures that are survived, and values that are unknown at first.

TRIES = 3  # readings that may fail in a row before a value counts as unknown


class Sensor:
    props = ()
    sets = ()
    timed = ()

    def __init__(self, d, name, every, change):
        self.d = d
        self.name = name
        self.every = every
        self.change = change
        self.failed = 0
        for each in self.props:
            setattr(self, each, None)
        d.after(self.first(), self.sample)

    def first(self):
        # ms from power-up to the first reading
        return 50

    def measure(self):
        # the values, in the order of props; OSError where the sensor does not answer
        raise NotImplementedError

    def sample(self):
        self.d.after(self.every, self.sample)
        self.read()

    def read(self):
        try:
            values = self.measure()
        except OSError as error:
            self.failed += 1
            if self.failed == TRIES:
                self.d.note(self.name + " does not answer: " + str(error))
                self.take((None,) * len(self.props))
            return
        if self.failed >= TRIES:
            self.d.note(self.name + " answers again")
        self.failed = 0
        self.take(values)

    def take(self, values):
        for name, value in zip(self.props, values):
            before = getattr(self, name)
            if value is None or before is None:
                news = value is not before
            else:
                news = abs(value - before) >= self.change
            if news:
                setattr(self, name, value)
                self.d.changed(self, name)

    def do(self, action):
        if action != "read":
            return False
        self.read()
        return True
