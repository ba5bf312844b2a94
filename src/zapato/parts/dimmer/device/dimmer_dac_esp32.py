# A level as a voltage: the chip's own analog output.
from machine import DAC, Pin

from dimmer import Dimmer


class DacDimmer(Dimmer):
    def drive(self, gpio, rate, on):
        self.dac = DAC(Pin(gpio))

    def power(self, share):
        value = int(share * 255 + 0.5)
        self.dac.write(value if self.active else 255 - value)
