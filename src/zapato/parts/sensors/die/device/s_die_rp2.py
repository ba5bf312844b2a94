# How warm the chip itself is: 0.706 V at 27 degrees, 1.721 mV less for each one more (RP2040 Datasheet, 4.9.5).
from machine import ADC

from sensor import Sensor


class Die(Sensor):
    props = ("temperature",)

    def __init__(self, d, name, every, change):
        self.input = ADC(4)
        super().__init__(d, name, every, change)

    def measure(self):
        return (round(27 - (self.input.read_u16() * 3.3 / 65535 - 0.706) / 0.001721, 1),)
