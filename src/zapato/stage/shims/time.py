# Stands in for the port's time module, on the stage's time.
from utime import ticks_add, ticks_diff

from world import ask, now


EPOCH = 1773100800  # seconds: the virtual day begins at midnight


def ticks_ms():
    return now[0]


def ticks_us():
    return now[1]


def sleep_ms(ms):
    while ms > 0:
        ms = int(ask("sleep", str(ms)))  # handlers of interrupts run meanwhile


def sleep(seconds):
    sleep_ms(int(seconds * 1000))


def sleep_us(us):
    ask("busy", str(us))


def time():
    return EPOCH + now[3]
