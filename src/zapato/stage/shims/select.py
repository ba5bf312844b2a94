# Stands in for the port's select module: waiting is where virtual time goes by.
import json
import sys

import host
from world import ask, now

POLLIN, POLLOUT, POLLERR, POLLHUP = 1, 4, 8, 16
_wanted = []
_measured = False  # what stays after loading


def _look():
    # The stage wants to see some of the program's properties.
    global _wanted
    try:
        with open("/stage/wanted") as file:
            _wanted = json.load(file)
        _tell()
    except MemoryError:
        host.call("seen", "")


def _tell():
    device = getattr(sys.modules.get("plan"), "d", None)
    values = []
    for part, name in _wanted:
        value = getattr(device.parts.get(part), name, None) if device else None
        values.append(value)
    host.call("seen", json.dumps(values))


class poll:
    def __init__(self):
        self.entries = []

    def register(self, thing, mask=POLLIN | POLLOUT):
        for entry in self.entries:
            if entry[0] is thing:
                entry[1] = mask
                break
        else:
            self.entries.append([thing, mask])
        if hasattr(thing, "number"):
            host.call("watch", "%d %d" % (thing.number, mask))

    def modify(self, thing, mask):
        if not any(entry[0] is thing for entry in self.entries):
            raise OSError(2)
        self.register(thing, mask)

    def unregister(self, thing):
        self.entries = [entry for entry in self.entries if entry[0] is not thing]
        if hasattr(thing, "number"):
            host.call("watch", "%d 0" % thing.number)

    def poll(self, timeout=-1):
        global _measured
        if not _measured:
            _measured = True
            sys.modules["gc"].settle()
        found = self.ready("")
        if found:
            timeout = 0
        if not timeout and not now[4]:
            return found  # nothing new without time going by
        if _wanted:
            try:
                _tell()
            except MemoryError:
                host.call("seen", "")
        begun = now[0]
        left = timeout
        while True:
            answer = ask("poll", str(left))
            if answer != "p":
                break
            _look()
            if timeout >= 0:
                left = max(0, timeout - ((now[0] - begun) & 0x3FFFFFFF))
        return self.ready(answer)

    def ready(self, answer):
        found = []
        for thing, mask in self.entries:
            flags = 0
            if not hasattr(thing, "number"):
                flags = thing.ioctl(3, mask)
            elif answer:
                for each in answer.split():
                    number, _, word = each.partition(":")
                    if int(number) == thing.number:
                        flags = int(word)
            if flags:
                found.append((thing, flags))
        return found

    def ipoll(self, timeout=-1, flags=0):
        return iter(self.poll(timeout))
