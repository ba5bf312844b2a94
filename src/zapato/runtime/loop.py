# The cooperative loop: timers, inputs that woke up, changes and events, the network.
import io
import select
import time

import gc

TURN = 64  # changes handled before the network gets its turn again


class Wake(io.IOBase):
    # Something to poll that an interrupt can make ready.
    up = 0

    def ioctl(self, request, flags):
        return flags if request == 3 and self.up else 0


class Device:
    def __init__(self, name, topic, version, full):
        self.name = name
        self.topic = topic
        self.version = version
        self.full = full  # volts at the analog pins at full scale
        self.parts = {}
        self.links = []
        self.inputs = []
        self.timers = []
        self.queue = []
        self.net = None
        self.lamp = None  # the status LED
        self.seconds = 0
        self.counted = time.ticks_ms()
        self.wake = Wake()
        self.poller = select.poll()
        self.poller.register(self.wake, select.POLLIN)

    def add(self, part):
        self.parts[part.name] = part
        return part

    def after(self, ms, call):
        timer = [time.ticks_add(time.ticks_ms(), ms), call]
        self.timers.append(timer)
        return timer

    def cancel(self, timer):
        if timer in self.timers:
            self.timers.remove(timer)

    def changed(self, part, name):
        self.queue.append((part, name, 0))

    def emit(self, part, event):
        self.queue.append((part, event, 1))

    def notify(self, text):
        self.note(text)

    def note(self, text):
        print(text)
        if self.net:
            self.net.say("notes", text)

    def show(self, value, spec):
        if value is None:
            return "?"
        if spec:
            return ("{:" + spec + "}").format(value)
        if isinstance(value, float):
            return ("%.2f" % value).rstrip("0").rstrip(".")
        return ("yes" if value else "no") if isinstance(value, bool) else str(value)

    def status(self, code):
        if self.lamp:
            self.lamp.status(code)

    def run(self):
        for link in self.links:
            link.begin()
        if self.net:
            self.net.begin()
        else:
            self.status(2)
        self.after(20000, self.tidy)
        while True:
            self.turn()

    def uptime(self):
        # The counter of ms wraps around, so whole seconds are taken from it often enough.
        passed = time.ticks_diff(time.ticks_ms(), self.counted) // 1000
        self.counted = time.ticks_add(self.counted, passed * 1000)
        self.seconds += passed
        return self.seconds

    def tidy(self):
        self.uptime()
        gc.collect()
        self.after(20000, self.tidy)

    def turn(self):
        wait = self.due()
        if self.queue:
            self.handle()
            wait = 0
        for found in self.poller.poll(wait):
            if found[0] is self.wake:
                self.wake.up = 0
                for each in self.inputs:
                    each.look()
            elif self.net:
                self.net.ready(found[1])

    def due(self):
        # Run the timers that are due; how long until the next one, in ms.
        now = time.ticks_ms()
        wait = 10000
        for timer in self.timers:
            left = time.ticks_diff(timer[0], now)
            if left <= 0:
                self.timers.remove(timer)
                timer[1]()
                return 0
            if left < wait:
                wait = left
        return wait

    def handle(self):
        for _ in range(TURN):
            if not self.queue:
                return
            part, name, event = self.queue.pop(0)
            key = part.name + "." + name
            for link in self.links:
                link.hear(key, event)
            if self.net:
                if not event:
                    self.net.value(part, name)
                elif name not in part.props:  # a property of the same name has said it already
                    self.net.event(part, name)
