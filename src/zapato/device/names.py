# Looks a name up without waiting for it: a DNS question over UDP (RFC 1035), asked again until the answer is there.
from micropython import const
import random
import socket

_LOOK_AGAIN = const(100)  # ms between two looks for the answer
_ASK_AGAIN = const(30)  # looks until it is asked once more
_LOOKS = const(100)  # looks until it is given up


class Names:
    def __init__(self, d):
        self.d = d
        self.sock = None
        self.count = 0
        self.told = None
        self.question = bytearray()
        self.place = ("", 53)

    def ask(self, host, told):
        # told(address) is called later, with None where nobody knows the name.
        self.close()
        question = bytearray(b"\0\0\1\0\0\1\0\0\0\0\0\0")
        question[0] = random.getrandbits(8)
        question[1] = random.getrandbits(8)
        for each in host.encode().split(b"."):
            question.append(len(each))
            question.extend(each)
        question.extend(b"\0\0\1\0\1")
        self.question = question
        net = self.d.net
        self.place = ((net.radio(net.wlan.ifconfig) or ("", "", "", ""))[3], 53)
        self.told = told
        self.count = 0
        self.look()

    def close(self):
        if self.sock:
            self.sock.close()
            self.sock = None

    def look(self):
        if not self.told:
            return
        address = False
        try:
            address = self.listen()
        except (OSError, MemoryError):
            self.close()
        self.count += 1
        if address is False and self.count < _LOOKS:
            self.d.after(_LOOK_AGAIN, self.look)
            return
        self.close()
        told, self.told = self.told, None
        told(address or None)

    def listen(self):
        if self.count % _ASK_AGAIN == 0:
            if not self.sock:
                self.sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
                self.sock.setblocking(False)
            self.sock.sendto(self.question, self.place)
        try:
            data = self.sock.recv(256) if self.sock else None
        except OSError:
            return False
        try:
            return self.answer(data) if data else False
        except IndexError:  # cut short, or no answer at all
            return False

    def answer(self, data):
        # The first address in the answer, None where there is none; False where it answers something else.
        if data[:2] != self.question[:2] or not data[2] & 0x80:
            return False
        at = len(self.question)
        for _ in range(data[6] << 8 | data[7]):
            while data[at] and data[at] < 0xC0:
                at += 1 + data[at]
            at += 2 if data[at] else 1
            size = data[at + 8] << 8 | data[at + 9]
            at += 10
            if data[at - 9] == 1 and size == 4:
                return "%d.%d.%d.%d" % tuple(data[at : at + 4])
            at += size
        return None if at <= len(data) else False
