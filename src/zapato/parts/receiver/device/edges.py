# Edges of a pin: these ports run the handler between two instructions of the program.
from machine import Pin


def hear_edges(pin, handler):
    pin.irq(handler, Pin.IRQ_RISING | Pin.IRQ_FALLING)
