# Edges of a pin, each at its own moment: the handler runs at once, and takes no memory.
from machine import Pin


def hear_edges(pin, handler):
    pin.irq(handler, Pin.IRQ_RISING | Pin.IRQ_FALLING, hard=True)
