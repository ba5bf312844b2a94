# The last step of the way up: the settings, and what the start before this one left to be told. Leaves nothing of itself.
# Parts are made once: then each __init__ is set to None. A deleted name would keep its value in the table (py/map.c).
import gc
import json
import os
import sys


def settings():
    try:
        with open("settings.json") as file:
            found = json.load(file)
        return found if isinstance(found, dict) else {}
    except (OSError, ValueError):  # gone, or damaged
        return {}


def spent(base):
    # Once everything of a base class is made, and none is made again, what made it gives its memory back.
    for name in ("device", "air"):
        for made in getattr(sys.modules.get(name), "ONCE", ()):
            if issubclass(made, base):
                made.__init__ = None  # a name that is deleted leaves its value in the table


def connect(plan):
    spent(sys.modules["device"].Part)  # type: ignore
    gc.collect()
    if plan.connect:
        try:
            found = settings()
            # The access point is asked in a call of its own: what it took is free again before the network is loaded.
            if hasattr(plan, "opens") and plan.opens(found):
                plan.connect = None
            if plan.connect:
                for each in ("update_key", "page"):  # nobody wants them here, but the access point keeps all of it
                    found.pop(each, None)
                gc.collect()
                plan.connect(found)
        except KeyError:  # some are still to be told by somebody near
            __import__("cmd_settings").do(plan.d)
    plan.connect = plan.opens = None
    spent(object)
    there = os.listdir()
    if "fault.json" in there:
        __import__("faults").tell(plan.d)
    if "slots.json" in there:
        __import__("confirm").watch(plan.d)
    del sys.modules["netup"]
