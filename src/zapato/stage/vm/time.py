# Stands in for the port's time module, on virtual time.
import stage_clock

PERIOD = 1 << 30
OFFSET = PERIOD - 60000  # the counter wraps around a minute after the start, as it does in the field
EPOCH = 1773100800  # seconds: the virtual day begins at midnight


def ticks_ms():
    return (stage_clock.now + OFFSET) % PERIOD


def ticks_us():
    return ((stage_clock.now + OFFSET) * 1000 + stage_clock.micro) % PERIOD


def ticks_add(ticks, delta):
    return (ticks + delta) % PERIOD


def ticks_diff(end, start):
    return (end - start + PERIOD // 2) % PERIOD - PERIOD // 2


def sleep_ms(ms):
    if ms > 0:
        stage_clock.go(stage_clock.now + ms)


def sleep(seconds):
    sleep_ms(int(seconds * 1000))


def sleep_us(us):
    stage_clock.busy(us)


def time():
    return EPOCH + stage_clock.now // 1000
