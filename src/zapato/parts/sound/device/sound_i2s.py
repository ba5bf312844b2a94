# A microphone on I2S: words of 32 bits, of which the upper 16 are taken. The buffer fills while the program does other things.
from machine import I2S, Pin  # type: ignore
from micropython import const

from sound import Sound

_WORDS = const(256)
_RATE = const(16000)


class HeardI2s(Sound):
    taken = 0

    def __init__(self, d, name, every, change, quiet, apart, sck, ws, sd):
        self.bytes = bytearray(4 * _WORDS)
        self.full = False
        number = HeardI2s.taken
        HeardI2s.taken += 1
        self.i2s = I2S(
            number, sck=Pin(sck), ws=Pin(ws), sd=Pin(sd), mode=I2S.RX, bits=32, format=I2S.MONO, rate=_RATE, ibuf=4 * 4 * _WORDS
        )
        self.i2s.irq(self.filled)  # type: ignore
        self.i2s.readinto(self.bytes)
        super().__init__(d, name, every, change, quiet, apart)

    def filled(self, i2s):
        self.full = True

    def measure(self):
        if not self.full:
            raise OSError("no samples come")
        data = self.bytes
        total = power = 0
        for at in range(2, 4 * _WORDS, 4):
            value = data[at] | data[at + 1] << 8
            if value > 32767:
                value -= 65536
            value >>= 4
            total += value
            power += value * value
        self.full = False
        self.i2s.readinto(data)
        middle = total / _WORDS
        return self.told(power / _WORDS - middle * middle, 2048)
