# The cooperative loop: timers, inputs that woke up, changes and events, the network; and the net under them all.
# It sleeps in poll(): interrupts make a pollable object ready, so one place waits for network, pins and timers. A message notes
# what it changed and the loop settles it from its own level: on the ESP8266 calls nest 24 deep at the most.
from micropython import const
import gc
import io
import select
import sys
import time
from time import ticks_diff

_TURN = const(32)  # changes handled before the network gets its turn again
_WAITING = const(64)  # changes that may wait; what comes beyond is dropped and counted
_LONG = const(1 << 28)  # ms: the ports' counters tell no more than 2^29 apart, so longer times go in pieces
_TOLD = const(12)  # faults that are remembered as told
_FIRST = const(30000)  # ms until the free memory is counted for the first time
_TIDY = const(600000)  # ms between two counts
_SCARCE = const(32768)  # bytes free below which memory is collected sooner than it must be
_LEAST = const(2048)  # bytes taken until then at the least: a collection takes some 40 ms on the smallest chip


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
        # Who hears of a part: by its name [property or event, whether it is an event, function, …]. No text is put together at a change:
        # finding out whether it is a known name takes as long as a hundred bytecodes.
        self.ears = {}
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
        self.free = 0  # bytes of the heap after the last collection
        self.seconds = 0
        self.counted = time.ticks_ms()
        self.wake = Wake()
        self.poller = select.poll()
        self.poller.register(self.wake, select.POLLIN)

    def add(self, part):
        self.parts[part.name] = part
        return part

    def listen(self, key, hear):
        # "part.property" or "part!event"; "@.minute" and "@.day" are the clock's.
        event = "!" in key
        part, name = key.rsplit("!" if event else ".", 1)
        self.ears.setdefault(part, []).extend((name, event, hear))

    def hear(self, part, name, event):
        ears = self.ears.get(part, ())
        at = 0
        while at < len(ears):
            if ears[at] == name and ears[at + 1] == event:
                self.guard(ears[at + 2])
            at += 3

    # --- time

    def after(self, ms, call, period=0):
        return self.arm([0, call, period, 0], ms)

    def every(self, ms, call, first=None):
        return self.after(ms if first is None else first, call, ms)

    def arm(self, timer, ms):
        timer[3] = ms - _LONG if ms > _LONG else 0
        when = timer[0] = time.ticks_add(time.ticks_ms(), ms - timer[3])
        at = 0
        while at < len(self.timers) and ticks_diff(when, self.timers[at][0]) >= 0:
            at += 1
        self.timers.insert(at, timer)
        return timer

    def cancel(self, timer):
        # Timers are told apart by identity: two may be equal.
        if timer is None:
            return
        at = 0
        for other in self.timers:
            if other is timer:
                del self.timers[at]
                return
            at += 1

    # --- what happens

    def emit(self, part, event):
        self.changed(part, event, 1)

    def changed(self, part, name, event=0):
        if len(self.queue) >= _WAITING:
            self.dropped += 1
            why = "too much at once"  # in memory: it is said again and again just when there is no time
            self.fault("the queue", why)
            return
        self.queue.append((part, name, event))

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
        self.free = gc.mem_free()
        if self.free < _SCARCE:
            gc.threshold(max(self.free >> 2, _LEAST))
        self.every(_TIDY, self.tidy, _FIRST)
        while True:
            self.guard(self.turns)

    def uptime(self):
        # The counter of ms wraps around, so whole seconds are taken from it often enough.
        passed = ticks_diff(time.ticks_ms(), self.counted) // 1000
        self.counted = time.ticks_add(self.counted, passed * 1000)
        self.seconds += passed
        return self.seconds

    def tidy(self):
        # What is told of the free memory. Else it is collected when there is none, for a collection takes as long as fifty turns; where there
        # is little, when a quarter of it is taken: what is made until then and stays lies close together at the heap's begin.
        self.uptime()
        gc.collect()
        self.free = gc.mem_free()

    def turns(self):
        # One after the other; ends by an exception only. In one piece, because a frame of more than eleven words is taken from the heap,
        # and looking for a free piece takes longer than a turn: this one is taken once.
        while True:
            if self.dog:
                self.dog.feed()
            wait = self.rest
            left = _TURN
            while self.timers and left:
                timer = self.timers[0]
                ms = ticks_diff(timer[0], time.ticks_ms())
                if ms > 0:
                    wait = min(ms, wait)
                    break
                left -= 1
                del self.timers[0]
                if timer[3]:
                    self.arm(timer, timer[3])
                    continue
                if timer[2]:  # from when it was due, so that lateness does not add up; never sooner than half a period
                    self.arm(timer, max(timer[2] + ms, timer[2] >> 1))
                timer[1]()
                if self.queue:
                    break
            if not left:
                wait = 0
            left = _TURN
            while self.queue and left:
                wait = 0
                left -= 1
                part, name, event = self.queue.pop(0)
                self.hear(part.name, name, event)
                if self.out and part.new is not None:  # what another device says is not said again
                    if not event:
                        part.new |= 1 << part.props.index(name)
                        self.out.value(part)
                    elif name not in part.props:  # a property of the same name has said it already
                        self.out.event(part, name)
            if self.out and self.out.due:  # pins move before anybody is told of it
                self.out.drain()
            # One tuple again and again, of two values or more as MicroPython's documentation has it: a turn takes no memory for it.
            for found in self.poller.ipoll(wait):
                if found[0] is self.wake:
                    self.wake.up = 0
                    for each in self.inputs:
                        self.guard(each.look)
                else:
                    self.other(found[0], found[1])

    def other(self, thing, flags):
        # Something else to poll is ready: the network, where nobody puts himself before it.
        self.out.ready(flags)  # type: ignore
