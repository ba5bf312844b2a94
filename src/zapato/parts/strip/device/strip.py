# A strip of addressable LEDs: one colour, a level, and a few effects that are computed here.
from micropython import const
import random

import neopixel
from machine import Pin

from loop import Part
from values import number, truth

_FRAME = const(40)  # ms between two frames of an effect at the least
_WAVE = const(64)  # frames of one breath
_AT_ONCE = const(16)  # lights that are filled together


def color_of(text):
    # "#rrggbb"
    if not isinstance(text, str) or len(text) != 7 or text[0] != "#":
        raise ValueError('takes a colour such as "#ff8000"')
    return int(text[1:3], 16), int(text[3:5], 16), int(text[5:7], 16)


class Strip(Part):
    props = ("on", "level", "color", "effect")
    sets = ("on", "level", "color", "effect")

    def __init__(self, d, name, gpio, count, order, limit):
        super().__init__(d, name)
        self.on = False
        self.level = 100
        self.color = "#ffffff"
        self.effect = "still"
        self.limit = limit
        self.order = order
        self.lights = neopixel.NeoPixel(Pin(gpio, Pin.OUT), count, len(order))
        self.count = 0
        self.timer = None
        self.pace = max(_FRAME, count // 8)  # a frame takes 30 us a light: it may have a quarter of the time
        self.lights.write()  # dark, whatever it showed before

    def mark(self):
        return (self.on, self.level, self.color, self.effect) if self.on else False

    def fill(self, share):
        # The whole strip in its colour, at this share of its level.
        share *= self.limit * self.level / 10000 if self.on else 0
        rgb = [int(each * share + 0.5) for each in color_of(self.color)]
        lights, row = self.lights.buf, self.row(rgb) * _AT_ONCE
        for at in range(0, len(lights), len(row)):
            lights[at : at + len(row)] = row[: len(lights) - at]
        return rgb

    def row(self, rgb):
        # One light's bytes. What red, green and blue have in common is white, where there is such.
        if len(self.order) > 3:
            white = min(rgb)
            rgb = [each - white for each in rgb] + [white]
        return bytes([rgb[at] for at in self.order])

    def light(self, place, row):
        self.lights.buf[place * len(row) : place * len(row) + len(row)] = row

    def show(self):
        self.d.cancel(self.timer)
        self.timer = None
        self.count = 0
        self.fill(1)
        self.lights.write()
        if self.on and self.effect != "still":
            self.timer = self.d.every(self.pace, self.frame)

    def frame(self):
        self.count += 1
        number_of = len(self.lights.buf) // len(self.order)
        if self.effect == "breathe":
            at = self.count % _WAVE
            self.fill((at if at * 2 < _WAVE else _WAVE - at) * 2 / _WAVE)
        elif self.effect == "flow":
            rgb = self.fill(0.15)
            bright = self.row([min(255, each * 6) for each in rgb])
            for each in range(max(1, number_of // 10)):
                self.light((self.count + each) % number_of, bright)
        else:
            rgb = self.fill(0.3)
            bright = self.row([min(255, each * 3) for each in rgb])
            for _ in range(max(1, number_of // 20)):
                self.light(random.getrandbits(16) % number_of, bright)
        self.lights.write()

    def take(self, name, value):
        if name == "level":
            number(value, 0, 100)
        self.set(name, value)

    def set(self, name, value):
        if name == "on":
            truth(value)
        elif name == "level":
            value = min(100, max(0, number(value)))
        elif name == "color":
            color_of(value)
            value = value.lower()
        elif value not in ("still", "breathe", "flow", "sparkle"):
            raise ValueError("takes still, breathe, flow or sparkle")
        if getattr(self, name) != value:
            setattr(self, name, value)
            self.d.changed(self, name)
            self.show()

    def do(self, action, *given):
        if action == "show" and len(given) == 1:
            self.set("effect", given[0])
            self.set("on", True)
            return True
        if action == "toggle":
            action = "off" if self.on else "on"
        if action not in ("on", "off") or given:
            return False
        self.set("on", action == "on")
        return True
