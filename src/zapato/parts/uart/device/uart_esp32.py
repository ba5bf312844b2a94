# The serial controllers of the ESP32 family: any pins.
from machine import Pin, UART


def opened_line(number, tx, rx, baud, parity, stop):
    lines = {}
    if tx is not None:
        lines["tx"] = Pin(tx)
    if rx is not None:
        lines["rx"] = Pin(rx)
    return UART(number, baudrate=baud, parity=parity, stop=stop, rxbuf=256, **lines)
