# The way up: safe levels before anything else, then the plan, then the loop.
import gc
import os
import sys

import levels
from machine import Pin


def safe():
    for gpio, level in levels.OUT:
        Pin(gpio, Pin.OUT, value=level)


safe()


def run(settings):
    try:
        import plan

        for name in plan.MORE:
            gc.collect()
            __import__(name)
        print(plan.d.name, plan.d.version)
        plan.connect(settings)
        settings = None
        if "fault.json" in os.listdir():
            import fault

            fault.tell(plan.d)
        gc.collect()
        plan.d.run()
    except Exception as error:
        safe()
        end(error)


def end(error):
    # Nothing went on after this: tell it, keep it, and begin anew. The program makes room for what keeps it.
    for name in [each for each in sys.modules if each[:4] in ("plan", "devi")]:
        del sys.modules[name]
    gc.collect()
    try:
        import fault

        fault.keep(error, safe)
    finally:
        import machine

        machine.reset()
