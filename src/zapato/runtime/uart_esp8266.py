# The serial controllers of the ESP8266: 0 on GPIO1 and 3, or swapped to 15 and 13; 1 only sends, on GPIO2.
import os
from machine import Pin, UART


def opened_line(tx, rx, baud, console):
    if tx == 2:
        return UART(1, baudrate=baud)
    if hasattr(os, "dupterm"):
        os.dupterm(None, 1)  # the console gives it up
    if 15 == tx or 13 == rx:
        return UART(0, baudrate=baud, rxbuf=256, tx=Pin(15), rx=Pin(13))
    return UART(0, baudrate=baud, rxbuf=256)
