# A modulated pin, at its share from the first pulse on.
from machine import PWM, Pin


def modulated(gpio, rate, duty):
    return PWM(Pin(gpio), freq=rate, duty_u16=duty)
