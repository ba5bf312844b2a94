# The chip's own pins; where a part offers pins, pins_offered stands here.
from machine import Pin


def output_pin(d, at, level):
    return Pin(at, Pin.OUT, value=level)


def input_pin(d, at, pull):
    return Pin(at, Pin.IN, (None, Pin.PULL_UP, Pin.PULL_DOWN)[pull])
