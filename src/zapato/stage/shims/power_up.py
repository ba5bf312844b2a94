# Starts the program as its board would, alone with the heap that the chip has.
import gc
import json
import sys

import host
import micropython
import world

# What a program may bring in beside its own modules; loaded now, so that they do not count as its own.
import dht
import errno
import machine
import neopixel
import network
import onewire
import os
import random
import select
import socket
import struct
import time
import vfs_fat


class _Gc:
    # The collector, measured where the program itself collects.
    turn = 0

    def __getattr__(self, name):
        return getattr(gc, name)

    def collect(self):
        gc.collect()
        self.turn += 1
        if self.turn < 30 or self.turn % 9 == 0:  # every 20 s at first, then every three minutes
            measure("")

    def settle(self):
        gc.collect()
        measure("loaded")

    def mem_alloc(self):
        return gc.mem_alloc() - ballast_size


def measure(when):
    host.call("catch", "")
    micropython.mem_info()
    host.call("heap", "%d,%s" % (gc_base, when))


with open("/stage/seed") as _file:
    random.seed(int(_file.read()))
collector = _Gc()
sys.modules["gc"] = collector
sys.modules["vfs"] = vfs_fat  # type: ignore
# The interpreter's tables of names grow in pools, each twice the last: a large one has just begun, and has room for all names
# of the program; on_names counts what they take on the chip.
_pool = _each = 0
while _pool < 4000:
    _pool = gc.mem_alloc()
    for _ in range(20):
        getattr(random, "n%d" % _each, None)
        _each += 1
    _pool = gc.mem_alloc() - _pool
gc.collect()
_heap = int(host.call("shims", str(gc.mem_alloc())))
# What the shims leave beyond the program's heap is taken in small pieces: they fill the holes between the shims, too, so
# that the program finds its memory in one piece, as on the chip.
_PIECE = 64
ballast = None
gc.collect()
ballast = [None] * ((gc.mem_free() - _heap) // (_PIECE + 4) - 1)
_before = gc.mem_alloc()
for _each in range(len(ballast)):
    ballast[_each] = bytes(_PIECE - 17)  # one block for itself, and a byte more than it holds
ballast_size = gc.mem_alloc() - _before
gc.collect()
gc_base = gc.mem_alloc()
tables = bytearray(int(host.call("names", "")))
_at = int(host.call("collect_at", ""))
if _at > 0:
    gc.threshold(_at)
try:
    with open("/main.py") as _file:
        _main = compile(_file.read(), "main.py", "exec")
    exec(_main, {"__name__": "__main__"})
    raise RuntimeError("the program came to its end")
except Exception as error:
    ballast = None
    host.call("crash", type(error).__name__)
    sys.print_exception(error)
