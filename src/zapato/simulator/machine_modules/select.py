# Stands in for the port's select module: waiting is where virtual time goes by.
import gc
import json
import sys

import host
from world import UNUSUAL, WATCH, fire, now, number

POLLIN, POLLOUT, POLLERR, POLLHUP = 1, 4, 8, 16
_INVALID = 32  # a socket that was closed (extmod/modselect.c: MP_STREAM_POLL_NVAL)
_wanted = []  # the number of the question, and what is asked for
_told = None  # the answer that the simulator has
closed = []  # sockets that were closed, perhaps while a poll had them
_measured = False  # what stays after loading


def _look():
    # The simulator wants to see some of the program's properties.
    global _wanted
    try:
        with open("/sim/wanted") as file:
            _wanted = json.load(file)
        _tell()
    except MemoryError:
        _untold()
    if len(_wanted) > 1:
        now[UNUSUAL] = 1  # from now on at every turn


def _tell():
    global _told
    device = getattr(sys.modules.get("plan"), "d", None)
    values = [_wanted[0]]
    for part, name in _wanted[1:]:
        value = getattr(device.parts.get(part), name, None) if device else None
        values.append(value)
    if values != _told:
        host.call("seen", json.dumps(values))
        _told = values


def _untold():
    global _told
    _told = None
    host.call("seen", "")


class poll:
    def __init__(self):
        self.wires = {}  # number -> socket: the simulator says which are ready
        self.others = []  # [thing, mask, what it is ready for]: these are asked
        # What is called at every turn is C code, as on the ports (tools/vm/modhost.c); it hands on what is unusual.
        made = host.poller(self.others, self.wires, self.unusual, fire, _look)
        self.poll, self.ipoll = made.poll, made.ipoll

    def register(self, thing, mask=POLLIN | POLLOUT):
        if hasattr(thing, "number"):
            self.wires[thing.number] = thing
            number(WATCH, thing.number, mask)
        else:
            self.others.append([thing, mask, 0])

    def modify(self, thing, mask):
        if thing.number not in self.wires:
            raise OSError(2)  # ENOENT
        self.register(thing, mask)

    def unregister(self, thing):
        if hasattr(thing, "number"):
            self.wires.pop(thing.number, None)
            number(WATCH, thing.number, 0)
        else:
            for at in range(len(self.others)):
                if self.others[at][0] is thing:
                    del self.others[at]
                    return

    def unusual(self, timeout, lazily):
        # At the first poll(), where a socket was closed that may be registered, and where the simulator looks into the program.
        global _measured
        now[UNUSUAL] = 0
        if not _measured:
            _measured = True
            host.call("loaded", "")
            gc.collect()
        if closed:
            for thing in self.wires.values():
                if thing.number < 0:
                    now[UNUSUAL] = 1
                    return [(thing, _INVALID)]
            closed.clear()
        if len(_wanted) > 1:
            try:
                _tell()
            except MemoryError:
                _untold()
        found = self.ipoll(timeout) if lazily else self.poll(timeout)
        if len(_wanted) > 1:
            now[UNUSUAL] = 1
        return found
