# How loud: the power of a burst of samples, in dB against a tone that fills the range.
import math

from sensor import Sensor


class Sound(Sensor):
    props = ("level", "loudness")

    def __init__(self, d, name, every, change, quiet, apart):
        self.quiet = quiet
        self.said = [None, None]
        super().__init__(d, name, every, change)
        d.every(apart, self.say, 500)

    def have(self, values):
        # Links hear of it at once, others every now and then.
        for name, value in zip(self.props, values):
            before = getattr(self, name)
            if value is None or before is None or abs(value - before) >= self.change:
                setattr(self, name, value)
                if value != before:
                    self.d.hear(self.name, name, 0)

    def say(self):
        for at in (0, 1):
            value = getattr(self, self.props[at])
            if value != self.said[at]:
                self.said[at] = value
                self.d.changed(self, self.props[at])

    def told(self, power, full):
        # power: the mean of the squares
        loud = -99.0
        if power > 0:
            loud = max(loud, 4.342945 * math.log(2 * power / full / full))
        share = min(1, max(0, 1 - loud / self.quiet))
        return round(100 * share), round(loud, 1)
