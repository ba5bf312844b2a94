# What all sensors share: a period, failures that are survived, and values that are unknown at first.
from micropython import const
from loop import Part

_TRIES = const(3)  # readings that may fail in a row before a value counts as unknown


class Sensor(Part):
    def __init__(self, d, name, every, change):
        super().__init__(d, name)
        self.change = change
        self.failed = 0
        for each in self.props:
            setattr(self, each, None)
        d.every(every, self.read, self.first())

    def first(self):
        # ms from power-up to the first reading
        return 50

    def read(self):
        try:
            # measure(): the values, in the order of props; an exception where the chip does not answer, or wrongly
            values = self.measure()  # type: ignore
        except MemoryError:
            raise
        except Exception as error:
            self.failed += 1
            if self.failed == _TRIES:
                self.d.note(self.name + " does not answer: " + str(error))
                self.have((None,) * len(self.props))
            return
        if self.failed >= _TRIES:
            self.d.note(self.name + " answers again")
        self.failed = 0
        self.have(values)

    def have(self, values):
        for name, value in zip(self.props, values):
            before = getattr(self, name)
            if value is None or before is None:
                news = value is not before
            else:
                news = abs(value - before) >= self.change if self.change else value != before
            if news:
                setattr(self, name, value)
                self.d.changed(self, name)

    def do(self, action, *given):
        if action != "read" or given:
            return False
        self.read()
        return True
