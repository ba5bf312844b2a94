# A lamp or motor with a level: pulse-width modulation, with fades.
from micropython import const
import time

from leveled import Leveled
from modulated import modulated

_STEP = const(20)  # ms between two steps of a fade


class Dimmer(Leveled):
    def __init__(self, d, name, gpio, active, on, rate, gamma):
        super().__init__(d, name)
        self.active = active
        self.gamma = gamma
        self.on = on
        self.level = 100
        self.now = 0  # the level at the pin
        self.fading = None
        self.drive(gpio, rate, on)
        self.give(100 if on else 0)

    def drive(self, gpio, rate, on):
        self.pwm = modulated(gpio, rate, self.duty(on))

    def duty(self, share):
        duty = int(share * 65535 + 0.5)
        return duty if self.active else 65535 - duty

    def power(self, share):
        self.pwm.duty_u16(self.duty(share))

    def give(self, level):
        self.now = level
        self.power((level / 100) ** self.gamma)

    def go(self, level, ms=0):
        # To this level within so many ms; what `level` says is where it goes.
        self.d.cancel(self.fading)
        self.fading = None
        if level and level != self.level:
            self.level = level
            self.d.changed(self, "level")
        on = level > 0
        if on != self.on:
            self.on = on
            self.d.changed(self, "on")
        if ms < _STEP or level == self.now:
            self.give(level)
            return
        self.way = (time.ticks_ms(), ms, self.now, level)
        self.fading = self.d.every(_STEP, self.fade)

    def fade(self):
        begun, ms, low, high = self.way
        passed = time.ticks_diff(time.ticks_ms(), begun)
        if passed < ms:
            self.give(low + (high - low) * passed / ms)
        else:
            self.d.cancel(self.fading)
            self.fading = None
            self.give(high)
