# hx711: 24 bits, one a pulse of the clock; one pulse more has the next conversion of input A with gain 128.
# A pulse is short even where an interrupt comes: high for 60 us the chip would switch off.
from micropython import const

from machine import Pin, disable_irq, enable_irq

from sensor import Sensor

_SIGN = const(0x800000)


class Hx711(Sensor):
    props = ("load",)

    def __init__(self, d, name, every, change, gpio, clock):
        self.data = Pin(gpio, Pin.IN)
        self.clock = Pin(clock, Pin.OUT, value=0)
        super().__init__(d, name, every, change)

    def bit(self):
        state = disable_irq()
        self.clock.value(1)
        self.clock.value(0)
        enable_irq(state)
        return self.data.value()

    def measure(self):
        if self.data.value():
            raise OSError("no conversion is ready")
        raw = 0
        for _ in range(24):
            raw = raw << 1 | self.bit()
        self.bit()
        if raw == _SIGN or raw == _SIGN - 1:
            raise ValueError("its input is beyond its range")
        return (raw - (_SIGN << 1) if raw & _SIGN else raw,)
