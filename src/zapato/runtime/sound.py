# How loud: the power of a burst of samples, in dB against a tone that fills the range.
import math

from sensor import Sensor


class Sound(Sensor):
    props = ("level", "loudness")

    def __init__(self, d, name, every, change, quiet):
        self.quiet = quiet
        super().__init__(d, name, every, change)

    def told(self, power, full):
        # power: the mean of the squares
        loud = -99.0
        if power > 0:
            loud = max(loud, 4.342945 * math.log(2 * power / full / full))
        share = min(1, max(0, 1 - loud / self.quiet))
        return round(100 * share), round(loud, 1)
