# Told to forget what it kept through power cuts; over the network it must be told twice.
import os
import sys
import time

import machine
from micropython import const

_TWICE = const(30000)  # ms within which it must be said again


def do(d, given=None):
    now = time.ticks_ms()
    before = getattr(d, "forgets", None)
    d.forgets = now
    if before is None or time.ticks_diff(now, before) > _TWICE:
        sys.modules.pop("own_forget", None)
        d.note("say it again within 30 s: values that were kept are forgotten")
    else:
        forget_all(d)


def forget_all(d):
    sys.modules.pop("own_forget", None)
    for name in ("kept.json", "fault.json"):
        try:
            os.remove(name)
        except OSError:
            pass
    d.store = None
    d.note("kept values are forgotten")
    d.after(500, machine.reset)
