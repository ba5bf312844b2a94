# What happened, a JSON line each, marked so that nothing the program prints can be taken for one.
import json
import sys

import stage_clock

MARK = "\x1e"


_held = bytearray(8192)  # lines wait here, so that the program's run is not cut up by writing
_size = 0


def log(what, name, value, **more):
    global _size
    more.update(t=stage_clock.now, what=what, name=name, value=value)
    line = (MARK + json.dumps(more) + "\n").encode()
    if _size + len(line) > len(_held):
        flush()
    if len(line) > len(_held):
        sys.stdout.buffer.write(line)
        return
    _held[_size : _size + len(line)] = line
    _size += len(line)


def flush():
    global _size
    sys.stdout.buffer.write(memoryview(_held)[:_size])
    _size = 0


def say(*values, sep=" ", end="\n", file=None):
    # Takes the place of print() while the program runs.
    log("print", "", sep.join(str(value) for value in values))
