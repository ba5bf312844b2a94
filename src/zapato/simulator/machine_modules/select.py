# Stands in for the port's select module: waiting is where virtual time goes by.
import gc
import json
import sys

import host
from world import WAIT, WATCH, fire, interrupted, now, number

POLLIN, POLLOUT, POLLERR, POLLHUP = 1, 4, 8, 16
_INVALID = 32  # a socket that was closed (extmod/modselect.c: MP_STREAM_POLL_NVAL)
_wanted = []  # the number of the question, and what is asked for
_told = None  # the answer that the simulator has
_NOTHING = ()
closed = []  # sockets that were closed, perhaps while a poll had them
_measured = False  # what stays after loading


def _look():
    # The simulator wants to see some of the program's properties.
    global _told, _wanted
    try:
        with open("/sim/wanted") as file:
            _wanted = json.load(file)
        _tell()
    except MemoryError:
        _told = None
        host.call("seen", "")


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


class poll:
    def __init__(self):
        self.wires = {}  # number -> socket: the simulator says which are ready
        self.others = []  # (thing, mask): these are asked

    def register(self, thing, mask=POLLIN | POLLOUT):
        if hasattr(thing, "number"):
            self.wires[thing.number] = thing
            number(WATCH, thing.number, mask)
        else:
            self.others.append((thing, mask))

    def modify(self, thing, mask):
        if thing.number not in self.wires:
            raise OSError(2)  # ENOENT
        self.register(thing, mask)

    def unregister(self, thing):
        if hasattr(thing, "number"):
            self.wires.pop(thing.number, None)
            number(WATCH, thing.number, 0)
        else:
            self.others = [entry for entry in self.others if entry[0] is not thing]

    def poll(self, timeout=-1):
        global _measured, _told
        if not _measured:
            _measured = True
            host.call("loaded", "")
            gc.collect()
        if closed:
            for thing in self.wires.values():
                if thing.number < 0:
                    return [(thing, _INVALID)]
            closed.clear()
        for thing, mask in self.others:
            if thing.ioctl(3, mask):
                timeout = 0
        if not timeout and not now[4]:
            return self.ready("")  # nothing new without time going by
        if len(_wanted) > 1:
            try:
                _tell()
            except MemoryError:
                _told = None
                host.call("seen", "")
        begun = now[0]
        left = timeout
        answer = -1
        while True:
            answer = number(WAIT, left, answer + 1)
            if now[2]:
                fire()
            if answer == 2:
                return self.ready(host.call("ready", ""))
            if answer == 3:
                interrupted()
            if answer == 1:
                _look()
            else:
                # A handler that ran makes nobody ready by itself: the ports look, and wait on (extmod/modselect.c,
                # poll_set_poll_until_ready_or_timeout).
                # No further name here: the frame of a function with many is taken from the heap, and the port has none.
                thing = self.ready("")
                if thing or timeout >= 0 and ((now[0] - begun) & 0x3FFFFFFF) >= timeout:
                    return thing
            if timeout >= 0:
                left = max(0, timeout - ((now[0] - begun) & 0x3FFFFFFF))

    def ready(self, answer):
        found = _NOTHING
        for thing, mask in self.others:
            flags = thing.ioctl(3, mask)
            if flags:
                found = [(thing, flags)]
        if answer:
            found = list(found)
            for each in answer.split():
                number, flags = each.split(":")
                thing = self.wires.get(int(number))
                if thing:
                    found.append((thing, int(flags)))
        return found

    def ipoll(self, timeout=-1, flags=0):
        return iter(self.poll(timeout))
