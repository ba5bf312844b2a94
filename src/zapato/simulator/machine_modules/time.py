# Stands in for the port's time module, in the simulator's time.
from utime import ticks_add, ticks_diff

import host
from world import BUSY, SLEEP, fire, now, number


EPOCH = 1773100800  # seconds: the virtual day begins at midnight


ticks_ms = host.ms


def ticks_us():
    return now[1]


def sleep_ms(ms):
    while ms > 0:
        ms = number(SLEEP, ms)
        if now[2]:  # handlers of interrupts run meanwhile
            fire()


def sleep(seconds):
    sleep_ms(int(seconds * 1000))


def sleep_us(us):
    number(BUSY, us)
    if now[2]:
        fire()


def time():
    return EPOCH + now[3]
