# The serial controllers of the ESP8266: 0 on GPIO1 and 3, or swapped to 15 and 13; 1 only sends, on GPIO2.
import os
from machine import Pin, UART

_lines = {}  # pins of controller 0, which making the other one would swap back


def opened_line(number, tx, rx, baud, parity, stop):
    if number:
        return UART(1, baudrate=baud, parity=parity, stop=stop, **_lines)
    if hasattr(os, "dupterm"):
        os.dupterm(None, 1)  # the console gives it up
    if 15 == tx or 13 == rx:
        _lines["tx"] = Pin(15)
        _lines["rx"] = Pin(13)
    return UART(0, baudrate=baud, parity=parity, stop=stop, rxbuf=256, **_lines)
