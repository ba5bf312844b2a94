# The serial controllers of the ESP32 family: any pins; controller 0 is the console's, and is taken last.
from machine import Pin, UART

_left = [1, 2, 0]


def opened_line(tx, rx, baud, console):
    lines = {}
    if tx is not None:
        lines["tx"] = Pin(tx)
    if rx is not None:
        lines["rx"] = Pin(rx)
    for number in (0,) if console else tuple(_left):
        try:
            made = UART(number, baudrate=baud, rxbuf=256, **lines)
        except ValueError:  # this chip has no such controller
            continue
        if number in _left:
            _left.remove(number)
        return made
    raise ValueError("no serial controller is left")
