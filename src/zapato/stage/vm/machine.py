# Stands in for the port's machine module, with the limits of the chip's pin table.
import stage_clock
import stage_world
from stage_world import line, table


class Pin:
    IN, OUT, OPEN_DRAIN = 0, 1, 2
    PULL_UP, PULL_DOWN = 1, 2
    IRQ_RISING, IRQ_FALLING = 1, 2

    def __init__(self, gpio, mode=-1, pull=-1, value=None):
        if gpio not in table:
            raise ValueError("invalid pin")
        self.gpio = gpio
        self.line = line(gpio)
        self.init(mode, pull, value)

    def init(self, mode=-1, pull=-1, value=None):
        limits = self.line.limits
        if mode in (Pin.OUT, Pin.OPEN_DRAIN) and not limits["drives"]:
            raise ValueError("pin can only be input")
        if pull == Pin.PULL_UP and not limits["up"] or pull == Pin.PULL_DOWN and not limits["down"]:
            raise ValueError("invalid pull")
        self.mode = mode
        if mode == Pin.IN:
            self.line.out = None
            self.line.pull = pull if pull in (1, 2) else 0
            self.line.hear(self.line.level())
        elif mode == Pin.OUT:
            self.line.write(self.line.level() if value is None else int(bool(value)))

    def value(self, level=None):
        if level is None:
            return self.line.level()
        self.line.write(int(bool(level)))

    __call__ = value

    def on(self):
        self.value(1)

    def off(self):
        self.value(0)

    def irq(self, handler=None, trigger=3, hard=False):
        if not self.line.limits["irq"]:
            raise ValueError("pin has no interrupt")
        self.line.trigger = trigger
        self.line.handler = (lambda: handler(self)) if handler else None


class ADC:
    ATTN_0DB, ATTN_2_5DB, ATTN_6DB, ATTN_11DB = 0, 1, 2, 3
    full = 3.3  # volts at full scale, set for the board

    def __init__(self, source, atten=None):
        self.gpio = source.gpio if isinstance(source, Pin) else ADC.only
        if not table[self.gpio]["adc"]:
            raise ValueError("invalid pin")

    def volts(self):
        stage_clock.busy(40)
        level = stage_world.quantity(("volts", self.gpio)).get()
        return min(max(level or 0.0, 0.0), ADC.full)

    def read_u16(self):
        return int(self.volts() / ADC.full * 65535)

    def read_uv(self):
        return int(self.volts() * 1000000)


class SoftI2C:
    def __init__(self, scl, sda, freq=400000, timeout=50000):
        self.sda = sda.gpio
        self.freq = freq

    def chip(self, address):
        found = stage_world.chips.get((self.sda, address))
        if found is None:
            raise OSError(19)
        return found

    def scan(self):
        return sorted(address for sda, address in stage_world.chips if sda == self.sda)

    def writeto(self, address, data, stop=True):
        stage_clock.busy((len(data) + 1) * 9000000 // self.freq)
        self.chip(address).write(bytes(data))
        return len(data) + 1

    def readfrom(self, address, size, stop=True):
        stage_clock.busy((size + 1) * 9000000 // self.freq)
        return self.chip(address).read(size)


class Reset(BaseException):
    pass


def reset():
    raise Reset


def unique_id():
    return b"\x02\x5a\x41\x50\x00\x01"


def freq(hz=None):
    return 160000000


def idle():
    pass
