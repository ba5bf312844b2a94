# Stands in for the port's machine module, with the limits of the chip's pin table.
import host
from world import ADC as _ADC
from world import DAC as _DAC, FULL, GET, PULSE, PWM as _PWM, SET, TOUCH, UART_DONE
from world import ask, fetch, fire, handlers, now, number, pipe

_REFUSED = ("", "invalid pin", "pin can only be input", "invalid pull", "pin has no interrupt", "hard IRQ not supported", "")


def _ask(name, data):
    # A pin that cannot do it raises ValueError, as on the ports.
    try:
        return ask(name, data)
    except OSError as error:
        if 0 < error.errno < len(_REFUSED):
            raise ValueError(_REFUSED[error.errno])
        raise


def _count(*given):
    # The same of whole numbers.
    try:
        return number(*given)
    except OSError as error:
        if 0 < error.errno < len(_REFUSED):
            raise ValueError(_REFUSED[error.errno])
        raise


class Pin:
    IN, OUT, OPEN_DRAIN = 0, 1, 2
    PULL_UP, PULL_DOWN = 1, 2
    IRQ_RISING, IRQ_FALLING = 1, 2

    def __init__(self, gpio, mode=-1, pull=-1, value=None):
        self.gpio = gpio if isinstance(gpio, int) else gpio.gpio
        self.init(mode, pull, value)

    def toggle(self):
        self.value(1 - self.value())

    def init(self, mode=-1, pull=-1, value=None):
        level = -1 if value is None else int(bool(value))
        _ask("pin", "%d %d %d %d" % (self.gpio, mode, -1 if pull is None else pull, level))

    def value(self, level=None):
        if level is None:
            level = number(GET, self.gpio)
            if now[2]:  # handlers of earlier edges have run before the program goes on (py/scheduler.c, mp_handle_pending between bytecodes)
                fire()
            return level
        number(SET, self.gpio, 1 if level else 0)
        if now[2]:
            fire()

    __call__ = value

    def on(self):
        self.value(1)

    def off(self):
        self.value(0)

    def irq(self, handler=None, trigger=3, hard=False):
        _ask("irq", "%d %d %d" % (self.gpio, trigger if handler else 0, hard))
        if handler:
            handlers[self.gpio] = (handler, self)
        else:
            handlers.pop(self.gpio, None)


class PWM:
    def __init__(self, dest, freq=-1, duty_u16=-1):
        self.gpio = dest.gpio
        self.rate = 0
        self.duty = 0
        self.tell(freq, duty_u16)

    def tell(self, freq, duty):
        if freq >= 0:
            self.rate = freq
        if duty >= 0:
            self.duty = duty
        _count(_PWM, self.gpio, self.rate, self.duty)

    def freq(self, value=None):
        if value is None:
            return self.rate
        self.tell(value, -1)

    def duty_u16(self, value=None):
        if value is None:
            return self.duty
        self.tell(-1, value)

    def deinit(self):
        self.duty = self.rate = 0
        ask("pwm_end", str(self.gpio))


class DAC:
    def __init__(self, pin):
        self.gpio = pin.gpio
        self.write(0)

    def write(self, value):
        _count(_DAC, self.gpio, value)


class TouchPad:
    def __init__(self, pin):
        self.gpio = pin.gpio
        self.read()

    def read(self):
        return _count(TOUCH, self.gpio)


class ADC:
    ATTN_0DB, ATTN_2_5DB, ATTN_6DB, ATTN_11DB = 0, 1, 2, 3

    def __init__(self, source, atten=None):
        self.gpio = source.gpio if isinstance(source, Pin) else -1 - source
        _count(_ADC, self.gpio)

    def read_u16(self):
        return _count(_ADC, self.gpio) * 65535 // number(FULL)

    def read_uv(self):
        return _count(_ADC, self.gpio)


def disable_irq():
    return 0


def enable_irq(state):
    pass


class SoftI2C:
    def __init__(self, scl, sda, freq=400000, timeout=50000):
        self.sda = sda.gpio
        self.freq = freq

    def scan(self):
        return [int(each) for each in ask("i2c_scan", str(self.sda)).split()]

    def writeto(self, address, data, stop=True):
        ask("i2c_write", b"%d %d %d\n" % (self.sda, address, self.freq) + bytes(data))
        return len(data) + 1

    def readfrom_into(self, address, data, stop=True):
        fetch("i2c_read", "%d %d %d %d" % (self.sda, address, len(data), self.freq))
        pipe.readinto(data)

    def readfrom(self, address, size, stop=True):
        data = bytearray(size)
        self.readfrom_into(address, data)
        return bytes(data)

    def readfrom_mem(self, address, memory, size, addrsize=8):
        # The register, a repeated start, the answer (extmod/machine_i2c.c, read_mem).
        data = bytearray(size)
        fetch("i2c_joined", "%d %d %d %d %d" % (self.sda, address, memory, size, self.freq))
        pipe.readinto(data)
        return bytes(data)


class I2C(SoftI2C):
    def __init__(self, id, scl, sda, freq=400000, timeout=50000):
        _ask("i2c_controller", "%d %d %d" % (id, sda.gpio, scl.gpio))
        super().__init__(scl, sda, freq)


class SoftSPI:
    MSB = 0

    def __init__(self, baudrate=500000, *, polarity=0, phase=0, bits=8, firstbit=MSB, sck=None, mosi=None, miso=None):
        self.line = sck.gpio if sck else 14
        self.init(baudrate, polarity, phase)

    def init(self, baudrate=-1, polarity=-1, phase=-1):
        # What is not given stays (extmod/machine_spi.c, mp_machine_soft_spi_init; the ports' controllers do the same).
        self.rate = self.rate if baudrate < 0 else baudrate
        self.polarity = self.polarity if polarity < 0 else polarity
        self.phase = self.phase if phase < 0 else phase
        self.head = b"%d %d %d\n" % (self.line, self.rate, self.polarity << 1 | self.phase)

    def deinit(self):
        pass

    def write(self, data):
        ask("spi", self.head + bytes(data))

    def write_readinto(self, data, into):
        fetch("spi", self.head + bytes(data))
        pipe.readinto(into)

    def readinto(self, data, write=0):
        fetch("spi", self.head + bytes([write]) * len(data))
        pipe.readinto(data)

    def read(self, size, write=0):
        data = bytearray(size)
        self.readinto(data, write)
        return bytes(data)


class SPI(SoftSPI):
    def __init__(self, id, baudrate=1000000, polarity=0, phase=0, bits=8, firstbit=0, sck=None, mosi=None, miso=None):
        lines = [_number(each) for each in (sck, mosi, miso)]
        _ask("spi_controller", "%d %d %d %d" % tuple([id] + lines))
        super().__init__(baudrate, polarity=polarity, phase=phase, sck=sck)
        self.sck = lines[0]

    def __str__(self):
        return "SPI(baudrate=%d, sck=%d)" % (self.rate, self.line)


class I2S:
    RX, MONO = 0, 0

    def __init__(self, id, *, sck, ws, sd, mode, bits, format, rate, ibuf):
        _ask("i2s", "%d %d %d %d" % (id, sck.gpio, ws.gpio, sd.gpio))
        self.sd, self.rate, self.waits = sd.gpio, rate, None

    def irq(self, handler):
        self.handler = handler
        handlers[(1 << 17) + self.sd] = (self.filled, self)

    def readinto(self, data):
        self.waits = data
        ask("i2s_wait", "%d %d %d" % (self.sd, len(data) // 4, self.rate))

    def filled(self, me):
        fetch("i2s_words", "%d %d %d" % (self.sd, len(self.waits) // 4, self.rate))
        pipe.readinto(self.waits)
        self.handler(self)


class UART:
    def __init__(self, id, baudrate=9600, bits=8, parity=None, stop=1, *, tx=None, rx=None, rxbuf=0, timeout=0):
        given = (_number(tx), _number(rx))
        if stop not in (1, 2) or parity not in (None, 0, 1):
            raise ValueError("invalid frame")
        length = 1 + bits + (parity is not None) + stop
        _ask("uart", "%d %d %d %d %d %d" % ((id,) + given + (baudrate, rxbuf, length)))
        self.id = id
        self.key = int(ask("uart_key", str(id)))
        self.head = b"%d\n" % self.key
        self.number = (1 << 18) + self.key

    def write(self, data):
        data = data.encode() if isinstance(data, str) else bytes(data)
        ask("uart_write", self.head + data)
        return len(data)

    def flush(self):
        ask("uart_flush", str(self.key))

    def read(self, size=256):
        got = int(fetch("uart_read", "%d %d" % (self.key, size)))
        return pipe.read(got) if got else None

    def txdone(self):
        return number(UART_DONE, self.key) == 1


def _number(line):
    # A pin, or the port's name for one ("GPIO0"); -1 for none.
    return -1 if line is None else line if isinstance(line, int) else int(line[4:]) if isinstance(line, str) else line.gpio


class RTC:
    def datetime(self, now=None):
        if now:
            ask("rtc", " ".join(str(each) for each in now))
        else:
            return tuple(int(each) for each in ask("rtc").split())


def time_pulse_us(pin, level, timeout=1000000):
    return number(PULSE, pin.gpio, level, timeout)


PWRON_RESET = int(ask("cause", "power"))


def reset():
    ask("reset")


def reset_cause():
    return int(ask("cause"))


def unique_id():
    return b"\x02\x5a\x41\x50\x00\x01"


def freq(hz=None):
    return int(ask("rate"))


def idle():
    pass


class WDT:
    def __init__(self, id=0, timeout=5000):
        if id:
            raise ValueError
        _ask("watchdog", str(timeout))

    feed = host.feed
