# A modulated pin: this port begins at nothing, and takes the share afterwards.
from machine import PWM, Pin


def modulated(gpio, rate, duty):
    pwm = PWM(Pin(gpio), freq=rate)
    pwm.duty_u16(duty)
    return pwm
