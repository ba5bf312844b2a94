# The chip's own pins; where a part offers pins, pins_offered stands here.
from machine import Pin


def output_pin(d, at, level):
    return Pin(at, Pin.OUT, value=level)


def input_pin(d, at, pull):
    # A port without pull-downs has no name for them.
    return Pin(at, Pin.IN, Pin.PULL_UP if pull == 1 else Pin.PULL_DOWN if pull else None)  # type: ignore
