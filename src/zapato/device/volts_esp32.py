# Volts at an analog pin: the calibrated reading at the widest range.
from machine import ADC, Pin


class Volts:
    def __init__(self, gpio, full):
        self.adc = ADC(Pin(gpio), atten=ADC.ATTN_11DB)  # type: ignore

    def read(self):
        return self.adc.read_uv() / 1000000
