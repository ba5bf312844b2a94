# Stands in for the port's socket module.
import errno

import stage_net

AF_INET, SOCK_STREAM = 2, 1


def getaddrinfo(host, port, *rest):
    if not stage_net.station:
        raise OSError(-2)
    return [(AF_INET, SOCK_STREAM, 0, "", (host, port))]


class socket:
    def __init__(self, family=AF_INET, kind=SOCK_STREAM, *rest):
        self.wire = stage_net.Wire()

    def setblocking(self, flag):
        if flag:
            raise NotImplementedError("the stage has non-blocking sockets only")

    def connect(self, address):
        self.wire.connect(address)
        raise OSError(errno.EINPROGRESS)

    def send(self, data):
        return self.wire.send(data)

    def recv(self, size):
        return self.wire.recv(size)

    def close(self):
        self.wire.close()

    def ioctl(self, request, mask):
        wire, flags = self.wire, 0
        if wire.into or wire.ended:
            flags |= 1
        if wire.open:
            flags |= 4
        if wire.failed:
            flags |= 8 | 16
        return flags & (mask | 24)
