# The last step of the way up: the settings, and what the start before this one left to be told. Leaves nothing of itself.
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


def connect(plan):
    if plan.connect:
        try:
            found = settings()
            # The access point is asked in a call of its own: what it took is free again before the network is loaded.
            if hasattr(plan, "opens") and plan.opens(found):
                plan.connect = None
            gc.collect()
            if plan.connect:
                plan.connect(found)
        except KeyError:  # some are still to be told by somebody near
            __import__("own_settings").do(plan.d)
    there = os.listdir()
    if "fault.json" in there:
        __import__("tale").tell(plan.d)
    if "slots.json" in there:
        __import__("trial").watch(plan.d)
    del sys.modules["joins"]
