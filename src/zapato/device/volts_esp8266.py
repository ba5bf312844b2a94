# Volts at A0, whose full scale the board decides.
from machine import ADC


class Volts:
    def __init__(self, gpio, full):
        self.adc = ADC(0)
        self.full = full

    def read(self):
        return self.adc.read_u16() * self.full / 65535
