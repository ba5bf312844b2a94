# Distance by echo: ten microseconds on one pin, the time of the answer on the other, the speed of sound at 20 degrees.
from micropython import const
import time

from machine import Pin, time_pulse_us

from sensor import Sensor

_FARTHEST = const(30000)  # us: about 5 m and back


class Echo(Sensor):
    props = ("distance",)

    def __init__(self, d, name, every, change, gpio, trigger):
        self.echo = Pin(gpio, Pin.IN)
        self.trigger = Pin(trigger, Pin.OUT, value=0)
        super().__init__(d, name, every, change)

    def measure(self):
        self.trigger.value(1)
        time.sleep_us(10)
        self.trigger.value(0)
        us = time_pulse_us(self.echo, 1, _FARTHEST)
        if us < 0:
            raise OSError("no echo")
        return (round(us * 343.2 / 2000000, 3),)
