# A new version is on trial until it has reached the broker and run on for a while; else it gives way to the version before it.
import json
import os
import sys

import machine
from micropython import const

_TIME = const(180000)  # ms that it has
_CALM = const(120000)  # ms that it then runs without a restart of any cause; boot_slot.py counts its starts


def gone(name):
    try:
        os.remove(name)
    except OSError:
        pass


def settle(slot):
    # From here on it is the good one: where a cut comes between these steps the next start takes the last.
    if slot == "b":
        open("b.runs", "w").close()
    else:
        gone("b.runs")
    gone("slots.json")


def watch(d):
    try:
        with open("slots.json") as file:
            state = json.load(file)
        slot = state.get("trial")
    except (OSError, ValueError, AttributeError):
        return
    if not slot or "/" + slot not in sys.path:
        del sys.modules["confirm"]
        return
    looking = []

    def look():
        if d.out is None or d.out.state == 3:
            d.cancel(looking[0])
            d.cancel(looking[1])
            d.note("version %s runs" % d.version)
            if d.out:
                d.out.send("update/status", json.dumps([d.version, "runs"]))
            d.after(_CALM, calm)

    def calm():
        settle(slot)
        sys.modules.pop("confirm", None)

    def over():
        with open("fault.json", "w") as file:
            why = "version %s did not reach the broker: the one before it runs again" % d.version
            json.dump({"back": why, "from": d.version}, file)
        gone("slots.json")
        machine.reset()

    looking.append(d.every(1000, look))
    looking.append(d.after(_TIME, over))
