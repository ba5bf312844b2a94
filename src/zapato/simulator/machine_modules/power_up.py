# Starts the program as its board would, alone with the heap that the chip has.
import gc
import sys

import host
import world

# What a program may bring in beside its own modules; loaded now, so that they do not count as its own.
import dht
import errno
import json
import machine
import micropython
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

try:
    import esp
except ImportError:  # another port's
    pass

with open("/sim/seed") as _file:
    random.seed(int(_file.read()))
sys.modules["vfs"] = vfs_fat  # type: ignore
# What other ports have and this one does not is absent here, too.
_each = 0
while True:
    _name = world.ask("absent", str(_each))
    if not _name:
        break
    _each += 1
    _path = _name.split(".")
    _owner = sys.modules.get(_path[0])
    for _part in _path[1:-1]:
        _owner = getattr(_owner, _part)
    if len(_path) > 1 and hasattr(_owner, _path[-1]):
        delattr(_owner, _path[-1])
# The interpreter's tables of names grow in pools, each twice the last: a large one has just begun, and has room for all names
# of the program; on_names counts what they take on the chip.
_known = host.names(0)
_pool = _each = 0
while _pool < 4000:
    _pool = gc.mem_alloc()
    for _ in range(20):
        getattr(random, "n%d" % _each, None)
        _each += 1
    _pool = gc.mem_alloc() - _pool
host.names(_known)
gc.collect()
host.reserve(int(host.call("modules", str(gc.mem_alloc()))))
tables = bytearray(int(host.call("names", "")))
_at = int(host.call("collect_at", ""))
if _at > 0:
    gc.threshold(_at)
try:
    host.run("/main.py")
    raise RuntimeError("the program came to its end")
except (Exception, KeyboardInterrupt) as error:
    host.call("crash", type(error).__name__)
    sys.print_exception(error)
