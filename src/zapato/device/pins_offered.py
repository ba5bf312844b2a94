# Where a part's pin is: on the chip itself, or (owner, number) on a part that offers pins.
# An offered pin has `value` and `watch` like the chip's own; the plan writes it as ("io", 3).
from machine import Pin


def output_pin(d, at, level):
    if isinstance(at, tuple):
        return d.parts[at[0]].pin(at[1], 1, level)
    return Pin(at, Pin.OUT, value=level)


def input_pin(d, at, pull):
    if isinstance(at, tuple):
        return d.parts[at[0]].pin(at[1], 0, 0, pull)
    if pull:
        return Pin(at, Pin.IN, Pin.PULL_UP if pull == 1 else Pin.PULL_DOWN)  # type: ignore
    return Pin(at, Pin.IN)
