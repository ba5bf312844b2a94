# Modbus RTU over a serial link: one request at a time, several meters on one line.
from micropython import const
import struct
import time

from loop import Part
from values import number, truth

_MISSES = const(3)  # requests that may fail in a row before what they read counts as unknown
_HUSH = const(5)  # ms of silence between two frames, at the least
_LINED = const(24)  # requests that may wait
_REFUSALS = ("it refuses", "no such function", "no such register", "no such value", "it failed", "accepted", "busy")


# What four bits that are shifted out add to the check sum: the polynomial 0xA001 four times.
_FOUR = (0, 52225, 55297, 5120, 61441, 15360, 10240, 58369, 40961, 27648, 30720, 46081, 20480, 39937, 34817, 17408)


def crc16(data, size):
    # Modbus over Serial Line V1.02, 6.2.2, with four bits a step in place of one: a third of the time.
    crc = 0xFFFF
    four = _FOUR
    for at in range(size):
        crc ^= data[at]
        crc = crc >> 4 ^ four[crc & 15]
        crc = crc >> 4 ^ four[crc & 15]
    return crc


class Master:
    # Asks for the meters of one line; an answer ends with its check sum, after a silence with its length.
    def __init__(self, bus):
        self.bus = bus
        self.d = bus.d
        self.queue = []  # (meter, block or None, frame): the first one is under way
        self.data = bytearray()
        self.timer = None
        self.asked = False  # an answer is awaited
        bus.hear = self.came

    def ask(self, meter, block, frame, first=False):
        for other in self.queue[1 if self.asked else 0 :]:
            if block and other[1] is block:
                return  # it still waits
        if len(self.queue) >= _LINED:
            raise ValueError("too much waits on the line")
        crc = crc16(frame, len(frame))
        self.queue.insert(1 if first and self.queue else len(self.queue), (meter, block, frame + bytes((crc & 255, crc >> 8))))
        if not self.timer:
            self.next()

    def next(self):
        self.timer = None
        if self.queue:
            meter, _, frame = self.queue[0]
            self.data = bytearray()
            self.asked = True
            ms = self.bus.send(frame)
            self.timer = self.d.after(ms + meter.patience, self.late)

    def late(self):
        # Its answer may still come, and must not pass for another's.
        self.end("answers wrongly" if self.data else "does not answer", 0, 2 * self.queue[0][0].patience)

    def came(self, data):
        if not self.asked:
            return
        self.data.extend(data)
        meter, block, frame = self.queue[0]
        have = self.data
        if len(have) < 5:
            return
        if have[0] != frame[0] or have[1] & 127 != frame[1]:
            return  # noise, or another's; the time will tell
        size = 5 if have[1] & 128 else have[2] + 5 if frame[1] < 5 else 8
        if len(have) < size:
            return
        if crc16(have, size - 2) != have[size - 2] | have[size - 1] << 8:
            self.end("answers wrongly")
        elif have[1] & 128:
            code = have[2]
            words = _REFUSALS[code] if code < len(_REFUSALS) else "it refuses"
            self.end("%s (exception %d)" % (words, code), code)
        elif frame[1] < 5 and have[2] != (block[0][2] * 2 if frame[1] > 2 else (block[0][2] + 7) // 8):
            self.end("answers wrongly")
        else:
            self.end("")

    def end(self, wrong, code=0, more=0):
        self.d.cancel(self.timer)
        self.asked = False
        meter, block, frame = self.queue.pop(0)
        data, self.data = self.data, bytearray()
        self.timer = self.d.after(_HUSH + int(4 * self.bus.byte) + more, self.next)
        if wrong:
            self.d.guard(meter.failed, block, wrong, code)
        else:
            self.d.guard(meter.answered, block, data)


def said(raw):
    # A text ends at its first zero; what is no printable ASCII is left out of it.
    text = ""
    for byte in raw:
        if not byte:
            break
        text += chr(byte) if 32 <= byte < 127 else "?"
    return text.strip()


def number_of(names, value):
    for raw, word in names:
        if word == value:
            return raw
    raise ValueError("no such value")


class Meter(Part):
    def __init__(self, d, name, bus, address, patience, blocks, props, sets, limits):
        super().__init__(d, name)
        line = d.parts[bus]
        self.master = line.master = line.master or Master(line)
        self.address = address
        self.patience = patience
        self.groups = [[[block, 0]] for block in blocks]  # each read as one, or in pieces: [what, how often it failed]
        self.props = props
        self.sets = sets
        self.limits = limits
        self.told = False  # that something is wrong with it
        self.odd = set()  # registers whose value has no name, told
        for each in props:
            setattr(self, each, None)
        at = 300
        for block, group in zip(blocks, self.groups):
            d.every(block[3], lambda group=group: self.ask(group), at)
            at += 50

    def ask(self, group):
        for each in group:
            block = each[0]
            self.master.ask(self, each, struct.pack(">BBHH", self.address, block[0], block[1], block[2]))

    def split(self, each):
        # A device that has not all words between two of its registers is asked for each alone.
        code, first, _, every, rows = each[0]
        for group in self.groups:
            if each in group:
                group.remove(each)
                for row in rows:
                    group.append([(code, first + row[1], row[2], every, ((row[0], 0) + row[2:],)), 0])
                self.ask(group)

    # --- what comes

    def answered(self, each, data):
        if each is None:
            return
        each[1] = 0
        block = each[0]
        if self.told and not any([one[1] for group in self.groups for one in group]):
            self.told = False
            self.d.note(self.name + " answers again")
        for name, at, words, form, little, bit, scale, shift, names in block[4]:
            if block[0] < 3:
                value = bool(data[3 + at // 8] >> at % 8 & 1)
            else:
                raw = bytes(data[3 + at * 2 : 3 + (at + words) * 2])
                if little and words == 2 and form != "s":
                    raw = raw[2:] + raw[:2]
                if form == "s":
                    value = said(raw)
                elif bit >= 0:
                    value = bool((raw[0] << 8 | raw[1]) >> bit & 1)
                else:
                    value = struct.unpack(">" + form, raw)[0]
                    if value - value != 0:  # no number
                        value = None
                    elif names:
                        value = self.named(name, names, value)
                    elif scale != 1 or shift or form == "f":
                        value = round(value * scale + shift, 5)
            self.have(name, value)

    def named(self, name, names, value):
        for raw, word in names:
            if raw == value:
                self.odd.discard(name)
                return word
        if name not in self.odd:  # once, until it has a name again
            self.odd.add(name)
            self.d.note("%s: %s is %d, which has no name" % (self.name, name, value))

    def have(self, name, value):
        if value != getattr(self, name) or (value is None) != (getattr(self, name) is None):
            setattr(self, name, value)
            self.d.changed(self, name)

    def failed(self, each, wrong, code):
        if each is None:
            self.d.note("%s was not set: %s" % (self.name, wrong))
            return
        block = each[0]
        if code == 2 and len(block[4]) > 1:
            return self.split(each)
        each[1] += 1
        if each[1] < _MISSES:
            if each[1] == 1:
                self.ask([each])  # once more, at once
            return
        if each[1] == _MISSES:
            for row in block[4]:
                self.have(row[0], None)
        if not self.told:
            self.told = True
            self.d.note("%s: %s, from register %d" % (self.name, wrong, block[1]))

    # --- what is set

    def take(self, name, value):
        self.set(name, value)

    def set(self, name, value):
        if name not in self.sets:
            raise ValueError("cannot be set")
        for group in self.groups:
            for each in group:
                for row in each[0][4]:
                    if row[0] == name:
                        self.write(each[0], row, value)
                        return self.ask([each])

    def write(self, block, row, value):
        _, at, words, form, little, _, scale, shift, names = row
        at += block[1]
        if block[0] < 3:
            frame = struct.pack(">BBHH", self.address, 5, at, 0xFF00 if truth(value) else 0)
        else:
            if names:
                value = number_of(names, value)
            else:
                low, high = self.limits[self.sets.index(row[0])]
                value = (number(value, low, high) - shift) / scale
            raw = struct.pack(">" + form, value if form == "f" else round(value))
            if little and words == 2:
                raw = raw[2:] + raw[:2]
            if words == 1:
                frame = struct.pack(">BBH", self.address, 6, at) + raw
            else:
                frame = struct.pack(">BBHHB", self.address, 16, at, words, words * 2) + raw
        self.master.ask(self, None, frame, True)

    def do(self, action, *given):
        if action != "read" or given:
            return False
        for group in self.groups:
            self.ask(group)
        return True
