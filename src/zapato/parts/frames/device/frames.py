# A part with a controller of its own, by frames that are described as data.
from micropython import const
import time

from loop import Part
from slots import fits, values
from values import number, truth

_HELD = const(128)  # bytes that may wait to be understood
_NOISE = const(2000)  # ms in which what is not understood is gathered before it is told
_TOLD_AGAIN = const(60000)  # ms between two tellings


def check(kind, data, first, end):
    # The check sum of data[first:end], as bytes.
    value = 0xFFFF if kind == "crc16" else 0
    for at in range(first, end):
        if kind == "xor":
            value ^= data[at]
        elif kind == "crc16":
            value ^= data[at]
            for _ in range(8):
                value = value >> 1 ^ 0xA001 if value & 1 else value >> 1
        else:
            value += data[at]
    if kind == "crc16":
        return bytes((value & 255, value >> 8))
    if kind == "sum16":
        return bytes((value >> 8 & 255, value & 255))
    return bytes(((-value if kind == "negsum" else value) & 255,))


class Frames(Part):
    def __init__(self, d, name, bus, hears, says, hello, alive, every, silent, skip, props, sets):
        super().__init__(d, name)
        self.bus = d.parts[bus]
        self.bus.hear = self.came
        self.hears = hears
        self.says = says
        self.alive = alive
        self.skip = skip
        self.props = props
        self.sets = sets
        for each in props:
            setattr(self, each, None)
        self.data = bytearray()
        self.strange = 0
        self.told = None  # when noise was told
        self.quiet = False
        self.silent = silent if hears else 0
        self.timer = None
        self.waits()
        at = 200
        for each in hello:
            d.after(at, lambda each=each: self.send(each))
            at += 100
        if alive:
            d.every(every, self.ask, at)

    # --- what comes

    def came(self, data):
        self.data.extend(data)
        while self.data and self.understood():
            pass
        if len(self.data) > _HELD:
            self.odd(len(self.data) - _HELD)

    def odd(self, count):
        # So many bytes at the beginning are no frame.
        self.data = self.data[count:]
        if not self.strange:
            self.d.after(_NOISE, self.noise)
        self.strange += count

    def noise(self):
        now = time.ticks_ms()
        if self.told is None or time.ticks_diff(now, self.told) > _TOLD_AGAIN:
            self.told = now
            self.d.note("%s: %d bytes not understood" % (self.name, self.strange))
        self.strange = 0

    def understood(self):
        # Takes the first frame, or the first byte that begins none; False where more must come.
        waits = False
        for pattern in self.hears:
            found = fits(pattern, self.data)
            if found and self.holds(pattern):
                size = len(pattern[0])
                frame = self.data[:size]
                self.data = self.data[size:]
                self.have(pattern, frame)
                return True
            waits = waits or found is None
        if waits:
            return False
        self.odd(1)
        return True

    def holds(self, pattern):
        # Whether the check sum is that of the bytes before it.
        kind, at = pattern[3:]
        if not kind:
            return True
        found = check(kind, self.data, self.skip, at)
        return found == self.data[at : at + len(found)]

    def have(self, pattern, frame):
        self.waits()
        if self.quiet:
            self.quiet = False
            self.d.note(self.name + " answers again")
        for name, value in values(pattern, frame):
            if value != getattr(self, name):
                setattr(self, name, value)
                self.d.changed(self, name)

    def waits(self):
        # From now on for the next frame.
        if self.silent:
            self.d.cancel(self.timer)
            self.timer = self.d.after(self.silent, self.lost)

    def lost(self):
        self.quiet = True
        self.d.note(self.name + " does not answer")
        for name in self.props:
            self.forget(name)

    def forget(self, name):
        if getattr(self, name) is not None:
            setattr(self, name, None)
            self.d.changed(self, name)

    # --- what is said

    def ask(self):
        self.send(self.alive)

    def say(self, word, **values):
        # False where there is no frame for this word.
        pattern = self.says.get(word)
        if pattern is None:
            return False
        self.send(pattern, values)
        return True

    def send(self, pattern, values=()):
        fixed, _, slots, kind, end = pattern
        frame = bytearray(fixed)
        for name, at, width, signed, little, scale, shift, _ in slots:
            value = values[name] if name in values else getattr(self, name, None) or 0
            raw = round(value * scale + shift)
            low = -(1 << width * 8 - 1) if signed else 0
            high = (1 << width * 8 - signed) - 1
            raw = min(high, max(low, raw))
            for n in range(width):
                frame[at + (n if little else width - 1 - n)] = raw >> 8 * n & 255
        if kind:
            found = check(kind, frame, self.skip, end)
            frame[end : end + len(found)] = found
        self.bus.send(frame)

    def set(self, name, value):
        if name not in self.sets:
            raise ValueError("cannot be set")
        if name in self.says:
            if isinstance(getattr(self, name), bool):
                truth(value)
            else:
                number(value)
            self.say(name, **{name: value})

    def do(self, action, *given):
        if action != "send" or len(given) != 1:
            return False
        if not self.say(given[0]):
            raise ValueError("there is no frame of this word")
        return True
