# The way up: safe levels before anything else, then the plan, then the loop.
# Safe levels come after any ending: an error, Ctrl-C, a restart, the watchdog's last wait. They take no memory.
import gc
import sys
import time

import levels
import machine
from machine import Pin


dog = None


def safe():
    # Software modulation goes on under a plain output: it is ended first, where the port has such.
    if dog:
        for gpio in levels.MODULATED:
            machine.PWM(Pin(gpio)).deinit()
    for gpio, level in levels.OUT:
        Pin(gpio, Pin.OUT, value=level)


def feed():
    if dog:
        dog.feed()


def rest():
    # What a pause before a restart does all the while.
    safe()
    feed()


safe()


def watch():
    # From here on the chip restarts where nobody feeds it.
    global dog
    dog = machine.WDT(timeout=levels.DOG)


def run():
    if levels.WATCHED:
        watch()
    error = None
    try:
        error = go()  # whose own variables are gone by now, and with them what they held
        if not error:
            loaded()
            sys.modules["plan"].d.run()  # type: ignore
    except Exception as ended:
        error = ended
    finally:  # whatever ended it, an interruption from the console too
        gc.collect()
        try:
            safe()
        except MemoryError:  # end() makes room, and does it again
            pass
    end(error)


def sweep(depth):
    # What an import left on the stack would pass for pointers, and keep kilobytes: deeper calls write over it.
    if depth:
        sweep(depth - 1)


def bring(name):
    # In a call of its own, so that what the import leaves lies where deeper calls come.
    __import__(name)


def go():
    try:
        for each in levels.SILENT:  # what the radio of this port begins with by itself
            import network

            network.WLAN(each).active(False)
        feed()
        bring("device")
        feed()
        sweep(9)
        gc.collect()
        bring("plan")
        plan = sys.modules["plan"]
        plan.d.dog = dog  # type: ignore
        plan.d.rest = levels.REST
        for name in plan.MORE:
            gc.collect()
            feed()
            bring(name)
        print(plan.d.name, plan.d.version)
        feed()
        sweep(9)
        gc.collect()
        bring("netup")
        sweep(9)
        sys.modules["netup"].connect(plan)
        sweep(9)
        gc.collect()
        feed()
    except Exception as error:
        return error


def loaded():
    # What loaded the program gives its memory back; a name that is deleted would leave its value in the table.
    global go, bring, sweep, watch
    go = bring = sweep = watch = None  # type: ignore


def end(error):
    # Nothing went on after this: tell it, keep it, and begin anew. The program makes room for what keeps it.
    for name in [each for each in sys.modules if each[:4] in ("plan", "devi")]:
        sys.modules.pop(name).__dict__.clear()  # a pointer left on the stack would keep all of it
    gc.collect()
    safe()
    try:
        import fault

        fault.keep(error, rest)
    except MemoryError:  # no room even for that: say so, and wait all the same
        print("MemoryError")
        for _ in range(30):
            time.sleep(1)
            rest()
    finally:
        machine.reset()
