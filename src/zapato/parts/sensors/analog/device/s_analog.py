# A voltage on an analog input, behind a divider of this ratio.
from volts import Volts

from sensor import Sensor


class Analog(Sensor):
    props = ("voltage",)

    def __init__(self, d, name, every, change, gpio, ratio):
        if isinstance(gpio, tuple):
            self.input = d.parts[gpio[0]].input(gpio[1])
        else:
            self.input = Volts(gpio, d.full)
        self.ratio = ratio
        super().__init__(d, name, every, change)

    def measure(self):
        total = 0
        for _ in range(8):
            total += self.input.read()
        return (round(total / 8 * self.ratio, 3),)
