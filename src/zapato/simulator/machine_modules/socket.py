# Stands in for the port's socket module.
import errno
import select

from world import UNUSUAL, ask, now

AF_INET, SOCK_STREAM, SOCK_DGRAM = 2, 1, 2
SOL_SOCKET, SO_REUSEADDR = 0xFFF, 4


def getaddrinfo(host, port, *rest):
    ask("resolve", host)
    return [(AF_INET, SOCK_STREAM, 0, "", (host, port))]


class socket:
    def __init__(self, family=AF_INET, kind=SOCK_STREAM, proto=0, number=None):
        self.kind = kind
        self.begun = number is not None or kind == SOCK_DGRAM  # connected, or on its way
        self.number = int(ask("socket", "%d" % kind)) if number is None else number
        self.file = open("/net/%d" % self.number, "r+b")

    def setsockopt(self, level, name, value):
        pass

    def bind(self, address):
        self.file.close()
        ask("bind", "%d %d %d" % (self.number, self.kind, address[1]))
        self.file = open("/net/%d" % self.number, "r+b")

    def listen(self, count=2):
        pass

    def accept(self):
        number = ask("accept", str(self.number))
        if not number:
            raise OSError(errno.EAGAIN)
        return socket(number=int(number)), ("192.168.4.16", 50000)

    def recvfrom(self, size):
        return self.recv(size), ("192.168.4.16", 50000)

    def setblocking(self, flag):
        if flag:
            raise NotImplementedError("the simulator has non-blocking sockets only")

    def connect(self, address):
        self.begun = True
        ask("connect", "%d %s %d" % (self.number, address[0], address[1]))
        raise OSError(errno.EINPROGRESS)

    def sendto(self, data, address):
        ask("sendto", b"%d %s %d\n" % (self.number, address[0].encode(), address[1]) + bytes(data))
        return len(data)

    def send(self, data):
        count = self.file.write(data)
        if count is None:
            raise OSError(errno.EAGAIN)
        return count

    def recv(self, size):
        if not self.begun:
            raise OSError(errno.ENOTCONN)
        data = self.file.read(size)
        if data is None:
            raise OSError(errno.EAGAIN)
        return data

    def readinto(self, data, size=-1):
        return self.file.readinto(data) if size < 0 else self.file.readinto(data, size)

    def write(self, data):
        return self.file.write(data)

    def read(self, size):
        return self.file.read(size)

    def close(self):
        if self.number >= 0:
            ask("close", str(self.number))
            self.file.close()
            self.number = -1
            if not select.closed:
                select.closed.append(True)
            now[UNUSUAL] = 1
