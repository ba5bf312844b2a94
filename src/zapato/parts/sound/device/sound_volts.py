# A microphone on an analog pin.
from array import array
from micropython import const

from volts import Volts

from sound import Sound

_BURST = const(64)  # samples: some ms


class HeardVolts(Sound):
    def __init__(self, d, name, every, change, quiet, apart, gpio):
        self.adc = Volts(gpio, d.full).adc
        self.row = array("h", bytes(2 * _BURST))
        super().__init__(d, name, every, change, quiet, apart)

    def measure(self):
        # Numbers stay below 2^30, so that none of them asks for memory.
        row = self.row
        read = self.adc.read_u16
        total = 0
        for at in range(_BURST):
            row[at] = value = read() >> 4
            total += value
        middle = total // _BURST
        power = 0
        for value in row:
            power += (value - middle) * (value - middle)
        return self.told(power / _BURST, 2048)
