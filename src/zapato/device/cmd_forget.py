# Told to forget what it kept through power cuts, and who it belonged to; over the network it must be told twice.
import json
import os
import sys
import time

import levels
import machine
from micropython import const

_TWICE = const(30000)  # ms within which it must be said again


def do(d, given=None):
    now = time.ticks_ms()
    before = getattr(d, "forgets", None)
    d.forgets = now
    if before is None or time.ticks_diff(now, before) > _TWICE:
        sys.modules.pop("cmd_forget", None)
        d.note("say it again within 30 s: kept values, network and broker are forgotten")
    else:
        forget_all(d)


def forget_all(d):
    sys.modules.pop("cmd_forget", None)
    for name in ("kept.json", "fault.json"):
        try:
            os.remove(name)
        except OSError:
            pass
    d.store = None
    d.note("kept values%s forgotten" % (", network and broker are" if leave_network() else " are; network and broker could not be"))
    d.after(500, begin_anew)


def begin_anew():
    # Where the port keeps network names and passwords of its own, they stand in the last three sectors of the flash.
    try:
        if levels.SILENT:
            import esp  # type: ignore

            end = esp.flash_size() // 4096  # type: ignore
            for sector in (end - 1, end - 2, end - 3):
                esp.flash_erase(sector)  # type: ignore
    finally:  # a flash that refuses is no reason to stay
        machine.reset()


def leave_network():
    # What stays is what belongs to the device itself: its update key, the country whose channels it uses.
    try:
        with open("settings.json") as file:
            found = json.load(file)
        for group, names in (("wifi", ("name", "password")), ("mqtt", ("host", "user", "password"))):
            for name in names:
                if group in found:
                    found[group].pop(name, None)
        found.pop("address", None)
        with open("settings.json.new", "w") as file:
            json.dump(found, file)
        os.rename("settings.json.new", "settings.json")
        return True
    except (OSError, ValueError, TypeError):
        return "settings.json" not in os.listdir()
