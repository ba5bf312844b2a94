# The way up: safe levels before anything else, then the plan, then the loop.
import gc
import sys
import time

import levels
import machine
from machine import Pin


def safe():
    for gpio, level in levels.OUT:
        Pin(gpio, Pin.OUT, value=level)


def rest():
    # What a pause before a restart does all the while.
    safe()
    if dog:
        dog.feed()


safe()
dog = None


def watched():
    # The watchdog: the longest that every port's can wait; the ESP8266's has one time only.
    try:
        return machine.WDT(timeout=8000)
    except TypeError:
        return machine.WDT()


def run():
    global dog
    dog = watched()
    error = go()  # whose own variables are gone by now, and with them what they held
    safe()
    end(error)


def go():
    try:
        import plan

        plan.d.dog = dog  # type: ignore

        for name in plan.MORE:
            gc.collect()
            __import__(name)
        print(plan.d.name, plan.d.version)
        __import__("joins").connect(plan)
        gc.collect()
        plan.d.run()
    except Exception as error:
        return error


def end(error):
    # Nothing went on after this: tell it, keep it, and begin anew. The program makes room for what keeps it.
    for name in [each for each in sys.modules if each[:4] in ("plan", "devi")]:
        del sys.modules[name]
    gc.collect()
    try:
        import fault

        fault.keep(error, rest)
    except MemoryError:  # no room even for that: wait all the same
        for _ in range(30):
            time.sleep(1)
            rest()
    finally:
        machine.reset()
