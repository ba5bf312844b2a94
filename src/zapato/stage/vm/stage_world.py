# The world around the board: levels on its pins, and the quantities its sensors feel.
import random

import stage_clock
from stage_log import log

table = {}  # gpio -> {"drives", "reads", "up", "down", "irq", "reset", "name"}: the chip's limits
lines = {}  # gpio -> Line
quantities = {}  # key -> Quantity
chips = {}  # (sda, address) -> model of an I2C chip
bounce = True


class Line:
    # One pin: what the program, the world and the resistors make of its level.
    def __init__(self, gpio):
        self.gpio = gpio
        self.limits = table.get(gpio, {})
        self.drive = None
        self.shown = None
        self.reset()

    def reset(self):
        self.out = None
        self.pull = self.limits.get("reset", 0)
        self.handler = None
        self.trigger = 0
        self.hear(self.level())

    def level(self):
        if self.out is not None:
            return self.out
        if self.drive is not None:
            return self.drive
        return 1 if self.pull == 1 else 0

    def change(self, drive):
        self.drive = drive
        self.hear(self.level())

    def write(self, level):
        self.out = level
        self.hear(level)

    def hear(self, level):
        before = self.shown
        if level == before:
            return
        self.shown = level
        log("pin", self.limits.get("name", "GPIO%d" % self.gpio), level)
        if before is not None and self.handler and self.trigger & (1 if level else 2):
            self.handler()


def line(gpio):
    found = lines.get(gpio)
    if found is None:
        found = lines[gpio] = Line(gpio)
    return found


class Quantity:
    # A value that may be on its way to another one.
    def __init__(self):
        self.values = None

    def set(self, value, over):
        now = stage_clock.now
        self.values = (now, self.get(), now + over, value)

    def get(self):
        if self.values is None:
            return None
        begin, first, end, last = self.values
        now = stage_clock.now
        if now >= end or first is None or not isinstance(last, (int, float)):
            return last
        return first + (last - first) * (now - begin) / (end - begin)


def quantity(key):
    found = quantities.get(key)
    if found is None:
        found = quantities[key] = Quantity()
    return found


def connect(gpio, level):
    # A contact moves: its metal bounces for a few ms before it lies still.
    at = line(gpio)
    if not bounce or at.level() == level:
        at.change(level)
        return
    ms = 0
    for turn in range(3):
        stage_clock.after(ms, lambda turn=turn: at.change(level if turn % 2 == 0 else 1 - level))
        ms += 1 + random.getrandbits(1)


def put(how, value, over):
    # Set something of the world, as the part's bench describes it.
    kind = how[0]
    if kind == "contact":
        connect(how[1], how[2] if value else 1 - how[2])
    elif kind == "i2c":
        key = (how[1], how[2])
        if key not in chips:
            chips[key] = __import__("chip_" + how[3]).Chip()
        quantity(("i2c", how[1], how[2], how[4])).set(value, over)
        chips[key].feel(how[4], quantity(("i2c", how[1], how[2], how[4])))
    else:
        quantity(tuple(how[:3]) if kind == "dht" else (kind, how[1])).set(value if kind == "dht" or value is None else value / how[2], over)


def gesture(how):
    # A finger on a button.
    kind, gpio, active = how[0], how[-2], how[-1]
    count, length, gap = (1, how[1], 0) if kind == "tap" else (how[1], how[2], 120)
    ms = 0
    for _ in range(count):
        stage_clock.after(ms, lambda: connect(gpio, active))
        stage_clock.after(ms + length, lambda: connect(gpio, 1 - active))
        ms += length + gap


def truth(how):
    # Measure what a part does, without asking the program.
    if how[0] == "level":
        return line(how[1]).level() == how[2]
    raise ValueError(how[0])


def power_off():
    for each in lines.values():
        each.out = None
        each.handler = None
        each.pull = 0
        each.hear(each.level())


def power_on():
    for each in lines.values():
        each.reset()
