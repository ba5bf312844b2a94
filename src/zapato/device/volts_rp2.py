# Volts at an analog pin, against the supply of the converter.
from machine import ADC, Pin


class Volts:
    def __init__(self, gpio, full):
        self.adc = ADC(Pin(gpio))
        self.full = full

    def read(self):
        return self.adc.read_u16() * self.full / 65535
