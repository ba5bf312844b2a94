# A touch pad: pressed while its reading is far from what it usually is.
from micropython import const

from machine import Pin, TouchPad

from loop import Part

_FEELS = const(80)  # ms between two readings
_AGREE = const(2)  # readings in a row until a change counts
_FOLLOWS = const(64)  # the usual reading follows by this part of the difference


class Touch(Part):
    props = ("down",)

    def __init__(self, d, name, gpio, share):
        super().__init__(d, name)
        self.share = share
        self.down = False
        self.pad = TouchPad(Pin(gpio))
        self.usual = 0  # not known: the later chips give 0 until they have measured once
        self.other = 0
        d.every(_FEELS, self.look)

    def look(self):
        value = self.pad.read()
        if not self.usual or not value:
            self.usual = self.usual or value
            return
        far = abs(value - self.usual) > self.usual * self.share
        if not far:
            self.usual += (value - self.usual) / _FOLLOWS
        if far == self.down:
            self.other = 0
            return
        self.other += 1
        if self.other >= _AGREE:
            self.other = 0
            self.down = far
            self.d.changed(self, "down")
            self.d.emit(self, "pressed" if far else "released")
