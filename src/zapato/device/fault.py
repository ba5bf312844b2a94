# What ended the program is kept for the next start; pauses before a restart grow. Small: there may be little room for it.
import json
import os
import sys
import time

from micropython import const

_RESTS = const(300)  # s of pause before a restart at the most
_LAST = const(3)  # faults that are kept
_LONG = const(240)  # characters of each


def kept():
    try:
        with open("fault.json") as file:
            found = json.load(file)
        return found if isinstance(found, dict) else {}
    except (OSError, ValueError):
        return {}


def keep(error, rest):
    sys.print_exception(error)
    text = "%s: %s" % (type(error).__name__, error)
    try:
        import trace

        text += trace.of(error)
    except MemoryError:
        pass
    found = kept()
    count, last = found.get("count"), found.get("last")
    count = count + 1 if isinstance(count, int) and 0 < count < 99 else 1
    last = last[1 - _LAST :] if isinstance(last, list) else []
    last.append(text[:_LONG])
    try:
        with open("fault.json.new", "w") as file:
            json.dump({"count": count, "last": last}, file)
        os.rename("fault.json.new", "fault.json")
    except OSError:
        pass
    for _ in range(min(1 << min(count, 9), _RESTS)):
        time.sleep(1)
        rest()
