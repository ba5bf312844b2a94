# After a fault, or a version that was given up: what happened is told, and forgotten when it was calm for long enough.
import json
import os

from micropython import const

_CALM = const(600000)  # ms of running after which earlier faults count no more


def tell(d):
    try:
        with open("fault.json") as file:
            found = json.load(file)
        if found.get("back"):
            d.note(str(found["back"]))
            if d.out:
                d.out.send("update/status", json.dumps([found.get("from"), "back"]))
        if found.get("last"):
            d.note("started again after a fault: " + str(found["last"][-1]))
    except (OSError, ValueError, TypeError, AttributeError):
        pass
    d.after(_CALM, forget)


def forget():
    try:
        os.remove("fault.json")
    except OSError:
        pass
