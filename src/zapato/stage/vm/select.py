# Stands in for the port's select module: waiting is where virtual time goes by.
import stage_clock
import stage_heap

POLLIN, POLLOUT, POLLERR, POLLHUP = 1, 4, 8, 16


class poll:
    def __init__(self):
        self.entries = []

    def register(self, thing, mask=POLLIN | POLLOUT):
        self.modify_or_add(thing, mask)

    def modify(self, thing, mask):
        for entry in self.entries:
            if entry[0] is thing:
                entry[1] = mask
                return
        raise OSError(2)

    def modify_or_add(self, thing, mask):
        for entry in self.entries:
            if entry[0] is thing:
                entry[1] = mask
                return
        self.entries.append([thing, mask])

    def unregister(self, thing):
        self.entries = [entry for entry in self.entries if entry[0] is not thing]

    def ready(self):
        for thing, mask in self.entries:
            if thing.ioctl(3, mask):
                return True
        return False

    def poll(self, timeout=-1):
        stage_heap.sample()
        limit = stage_clock.now + timeout if timeout >= 0 else 1 << 60
        if not self.ready():
            stage_clock.go(limit, self.ready)
        found = []
        for thing, mask in self.entries:
            flags = thing.ioctl(3, mask)
            if flags:
                found.append((thing, flags))
        return found

    def ipoll(self, timeout=-1, flags=0):
        return iter(self.poll(timeout))
