# Which program runs, where that is in question: the slot in use, one on trial, or the minimal one. No update touches this file.
import json
import os
import sys

_FAILED = 3  # starts that failed in a row, after which the minimal program runs


def kept(name):
    try:
        with open(name) as file:
            found = json.load(file)
        return found if isinstance(found, dict) else {}
    except (OSError, ValueError):
        return {}


def put(name, data):
    with open(name + ".new", "w") as file:
        json.dump(data, file)
    os.rename(name + ".new", name)


def whole(slot):
    # The manifest is written last and removed first.
    try:
        return "manifest.json" in os.listdir(slot)
    except OSError:
        return False


def on_trial(good):
    # The slot on trial where it has a start left; else it is given up.
    state = kept("slots.json")
    trial, left = state.get("trial"), state.get("left")
    if trial in ("a", "b") and trial != good:
        if whole(trial) and isinstance(left, int) and left > 0:
            put("slots.json", {"trial": trial, "left": left - 1})
            return trial
        version = kept(trial + "/manifest.json").get("version")
        why = "version %s did not reach the broker, or restarted again and again: the one before it runs again"
        put("fault.json", {"back": why % version, "from": version})
        if "ask.json" in os.listdir():  # what it asked for
            os.remove("ask.json")
    os.remove("slots.json")


def choose(here):
    slot = "b" if "b.runs" in here else "a"
    if not whole(slot) and whole("ab"[slot == "a"]):
        slot = "ab"[slot == "a"]
    path = None
    if "slots.json" in here:
        try:
            path = on_trial(slot)
        except OSError as error:  # a flash that cannot be written is no reason not to start
            print("flash:", error)
    if not path:
        path = slot
        count = kept("fault.json").get("count")
        asked = "ask.json" in os.listdir() or isinstance(count, int) and count >= _FAILED  # a trial that ended took its own away
        if asked and "safe" in os.listdir(slot) and "start.mpy" in os.listdir(slot + "/safe"):
            path += "/safe"
    sys.path.insert(0, "/" + path)
    del sys.modules["boot_slot"]
