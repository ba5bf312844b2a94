# Pulses: how many since ever, kept through a power cut, and how many a second.
from micropython import const
import time

from machine import Pin

from sensor import Sensor
from store import store_of

_KEEPS = const(300000)  # ms between two keepings of the count: flash wears


class Pulse(Sensor):
    props = ("count", "rate")

    def __init__(self, d, name, every, change, gpio, pull, rising):
        self.fresh = 0
        self.every = every
        self.since = self.saved = time.ticks_ms()
        found = store_of(d).kept.get(name)
        self.total = found if isinstance(found, int) else 0
        pin = Pin(gpio, Pin.IN, Pin.PULL_UP) if pull else Pin(gpio, Pin.IN)
        pin.irq(self.interrupt, Pin.IRQ_RISING if rising else Pin.IRQ_FALLING)
        super().__init__(d, name, every, change)

    def first(self):
        return self.every

    def interrupt(self, pin):
        self.fresh += 1

    def measure(self):
        news = self.fresh
        self.fresh -= news
        self.total += news
        now = time.ticks_ms()
        ms = time.ticks_diff(now, self.since) or 1
        self.since = now
        if time.ticks_diff(now, self.saved) >= _KEEPS:
            self.saved = now
            self.d.store.put(self.name, self.total)
        return self.total, round(news * 1000 / ms, 3)
