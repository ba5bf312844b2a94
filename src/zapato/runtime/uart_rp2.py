# The serial controllers of the RP2040: which one a pin leads to is fixed (datasheet, GPIO functions).
from machine import Pin, UART


def opened_line(tx, rx, baud, console):
    lines = {}
    if tx is not None:
        lines["tx"] = Pin(tx)
    if rx is not None:
        lines["rx"] = Pin(rx)
    return UART(((rx if tx is None else tx) + 4) // 8 & 1, baudrate=baud, rxbuf=256, **lines)  # type: ignore
