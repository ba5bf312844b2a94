# A part with a controller of its own, by frames that are described as data.
from micropython import const
import time

from loop import Part
from values import number, truth

_HELD = const(128)  # bytes that may wait to be understood
_TOLD_AGAIN = const(60000)  # ms between two tellings of what was not


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
        self.told = None
        self.quiet = False
        self.silent = silent
        self.last = time.ticks_ms()
        at = 200
        for each in hello:
            d.after(at, lambda each=each: self.send(each))
            at += 100
        if alive:
            d.every(every, self.ask, at)
        if silent and hears:
            d.every(silent, self.listen)

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
        self.strange += count
        now = time.ticks_ms()
        if self.told is None or time.ticks_diff(now, self.told) > _TOLD_AGAIN:
            self.told = now
            self.d.note("%s: %d bytes not understood" % (self.name, self.strange))
            self.strange = 0

    def understood(self):
        # Takes the first frame, or the first byte that begins none; False where more must come.
        waits = False
        for pattern in self.hears:
            fits = self.fits(pattern)
            if fits is None:
                waits = True
            elif fits:
                size = len(pattern[0])
                frame = self.data[:size]
                self.data = self.data[size:]
                self.have(frame, pattern[2])
                return True
        if waits:
            return False
        self.odd(1)
        return True

    def fits(self, pattern):
        fixed, mask, _, kind, at = pattern
        data = self.data
        have = len(data)
        for n in range(len(fixed)):
            if n >= have:
                return None
            if (data[n] ^ fixed[n]) & mask[n]:
                return False
        if kind:
            found = check(kind, data, self.skip, at)
            return found == data[at : at + len(found)]
        return True

    def have(self, frame, slots):
        self.last = time.ticks_ms()
        if self.quiet:
            self.quiet = False
            self.d.note(self.name + " answers again")
        for name, at, width, signed, little, scale, shift, is_truth in slots:
            raw = 0
            for n in range(width):
                raw = raw << 8 | frame[at + (width - 1 - n if little else n)]
            if signed and raw >> width * 8 - 1:
                raw -= 1 << width * 8
            self.got(name, raw != 0 if is_truth else round((raw - shift) / scale, 6))

    def got(self, name, value):
        if not isinstance(value, bool) and value == int(value):
            value = int(value)
        if value != getattr(self, name):
            setattr(self, name, value)
            self.d.changed(self, name)

    def listen(self):
        if not self.quiet and time.ticks_diff(time.ticks_ms(), self.last) >= self.silent:
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
