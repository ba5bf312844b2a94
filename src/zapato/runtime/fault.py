# What ended the program is kept for the next start; pauses before a restart grow.
import json
import os
import sys
import time

from micropython import const

_NAME = "fault.json"
_CALM = const(600000)  # ms of running after which earlier faults count no more
_RESTS = const(300)  # s of pause before a restart at the most


def kept():
    try:
        with open(_NAME) as file:
            found = json.load(file)
        return found if isinstance(found, dict) else {}
    except (OSError, ValueError):
        return {}


def tell(d):
    d.note("started again after a fault: " + str(kept().get("what")))
    d.after(_CALM, forget)


def forget():
    try:
        os.remove(_NAME)
    except OSError:
        pass


def keep(error, safe):
    sys.print_exception(error)
    count = kept().get("count")
    count = count + 1 if isinstance(count, int) and 0 < count < 99 else 1
    try:
        with open(_NAME, "w") as file:
            json.dump({"what": "%s: %s" % (type(error).__name__, error), "count": count}, file)
    except OSError:
        pass
    for _ in range(min(1 << min(count, 9), _RESTS)):
        time.sleep(1)
        safe()
