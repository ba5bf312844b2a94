# The cooperative loop: timers, inputs that woke up, changes and events, the network; and the net under them all.
# It sleeps in poll(): interrupts make a pollable object ready, so one place waits for network, pins and timers. A message notes
# what it changed and the loop settles it from its own level: on the ESP8266 calls nest 24 deep at the most.
from micropython import const
import gc
import io
import select
import sys
import time

_TURN = const(32)  # changes handled before the network gets its turn again
_WAITING = const(64)  # changes that may wait; what comes beyond is dropped and counted
_LONG = const(1 << 28)  # ms: the ports' counters tell no more than 2^29 apart, so longer times go in pieces
_TOLD = const(12)  # faults that are remembered as told
_TIDY = const(20000)


class Wake(io.IOBase):
    # Something to poll that an interrupt can make ready.
    up = 0

    def ioctl(self, request, flags):
        return flags if request == 3 and self.up else 0


class Part:
    # What every part has: properties, those that can be set, actions whose last argument is a time.
    props = ()
    sets = ()
    timed = ()
    new = 0  # bits of the properties whose value waits to be published

    def __init__(self, d, name):
        self.d = d
        self.name = name

    def do(self, action):
        return False

    def set(self, name, value):
        raise ValueError("cannot be set")

    def take(self, name, value):
        # A setting that came over the network.
        self.set(name, value)

    def mark(self):
        # What `for` compares to know whether somebody changed it since.
        return getattr(self, "on", None)


class Device:
    floor = 0  # volts that an analog pin reads for none

    def __init__(self, name, topic, version, full):
        self.name = name
        self.topic = topic
        self.version = version
        self.full = full  # volts at the analog pins at full scale
        self.parts = {}
        self.starts = []  # what wants to be called when everything is there
        self.ears = {}  # "part.property" or "part!event" -> who hears of it
        self.inputs = []
        self.timers = []  # [when, call, period, what is left of a long time], the next one first
        self.queue = []
        self.told = []
        self.dropped = 0
        self.net = None  # the way to others
        self.out = None  # what is said goes here, where there is a broker
        self.lamp = None  # the status LED
        self.dog = None  # the watchdog, started before the program is loaded
        self.rest = 4000  # ms that the loop waits at the most
        self.store = None  # what outlives a power cut
        self.seconds = 0
        self.counted = time.ticks_ms()
        self.wake = Wake()
        self.poller = select.poll()
        self.poller.register(self.wake, select.POLLIN)

    def add(self, part):
        self.parts[part.name] = part
        return part

    def listen(self, key, hear):
        self.ears.setdefault(key, []).append(hear)

    # --- time

    def after(self, ms, call, period=0):
        return self.arm([0, call, period, 0], ms)

    def every(self, ms, call, first=None):
        return self.after(ms if first is None else first, call, ms)

    def arm(self, timer, ms):
        timer[3] = ms - _LONG if ms > _LONG else 0
        now = time.ticks_ms()
        when = timer[0] = time.ticks_add(now, ms - timer[3])
        at = 0
        for other in self.timers:
            if time.ticks_diff(when, other[0]) < 0:
                break
            at += 1
        self.timers.insert(at, timer)
        return timer

    def cancel(self, timer):
        # Timers are told apart by identity: two may be equal.
        for at in range(len(self.timers)):
            if self.timers[at] is timer:
                del self.timers[at]
                return

    # --- what happens

    def changed(self, part, name):
        self.happened(part, name, 0)

    def emit(self, part, event):
        self.happened(part, event, 1)

    def happened(self, part, name, event):
        if len(self.queue) >= _WAITING:
            self.dropped += 1
            why = "too much at once"  # in memory: it is said again and again just when there is no time
            self.fault("the queue", why)
            return
        self.queue.append((part, name, event))

    def settle(self):
        for _ in range(_TURN):
            if not self.queue:
                return
            part, name, event = self.queue.pop(0)
            for hear in self.ears.get(part.name + ("!" if event else ".") + name, ()):
                self.guard(hear)
            if self.out and part.new is not None:  # what another device says is not said again
                if not event:
                    part.new |= 1 << part.props.index(name)
                    self.out.value(part)
                elif name not in part.props:  # a property of the same name has said it already
                    self.out.event(part, name)

    # --- what is told

    def note(self, text):
        print(text)
        if self.out:
            self.out.send("notes", text)

    def status(self, code):
        if self.lamp:
            self.lamp.status(code)

    # --- the net under it all

    def guard(self, call, *given):
        # Nothing that one part or link does may end the others, nor may telling of it.
        try:
            try:
                return call(*given)
            except MemoryError:
                self.spare()
            except Exception as error:
                self.fault("", error)
        except MemoryError:
            self.dropped += 1

    def fault(self, place, error):
        # Told once for each place and kind of fault.
        lines = ()
        if isinstance(error, Exception):
            found = io.StringIO()
            sys.print_exception(error, found)  # type: ignore
            lines = found.getvalue().rstrip().split("\n")  # type: ignore
            place = place or (lines[-2].strip() if len(lines) > 1 else "")
            error = lines[-1]
            self.status(4)
        text = "fault in %s: %s" % (place, error)
        if text in self.told:
            return
        for line in lines:
            print(line)
        if len(self.told) >= _TOLD:
            self.told.pop(0)
        self.told.append(text)
        self.note(text)

    def spare(self):
        # Out of memory: what only waits to be said goes first, and is counted.
        self.dropped += len(self.queue)
        self.queue.clear()
        if self.out:
            self.out.spare()
        gc.collect()
        why = "none left"  # in memory: to read it from the flash would take some
        self.fault("memory", why)

    # --- running

    def run(self):
        for begin in self.starts:
            self.guard(begin)
        self.starts = []
        if self.net:
            self.guard(self.net.begin)
        else:
            self.status(2)
        self.every(_TIDY, self.tidy)
        while True:
            self.guard(self.turn)

    def uptime(self):
        # The counter of ms wraps around, so whole seconds are taken from it often enough.
        passed = time.ticks_diff(time.ticks_ms(), self.counted) // 1000
        self.counted = time.ticks_add(self.counted, passed * 1000)
        self.seconds += passed
        return self.seconds

    def tidy(self):
        self.uptime()
        gc.collect()

    def turn(self):
        if self.dog:
            self.dog.feed()
        wait = self.due()
        if self.queue:
            self.settle()
            wait = 0
        for found in self.poller.poll(wait):
            if found[0] is self.wake:
                self.wake.up = 0
                for each in self.inputs:
                    self.guard(each.look)
            else:
                self.other(found[0], found[1])

    def other(self, thing, flags):
        # Something else to poll is ready: the network, where nobody puts himself before it.
        if self.out:
            self.guard(self.out.ready, flags)

    def due(self):
        # Run the timers that are due; how long until the next one, in ms.
        for _ in range(_TURN):
            if not self.timers:
                return self.rest
            timer = self.timers[0]
            left = time.ticks_diff(timer[0], time.ticks_ms())
            if left > 0:
                return left if left < self.rest else self.rest
            del self.timers[0]
            if timer[3]:
                self.arm(timer, timer[3])
                continue
            if timer[2]:  # from when it was due, so that lateness does not add up; never sooner than half a period
                self.arm(timer, max(timer[2] + left, timer[2] >> 1))
            self.guard(timer[1])
            if self.queue:
                return 0
        return 0
