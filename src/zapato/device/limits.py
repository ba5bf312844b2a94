# Limits of an output: how short and how long it may be on or off, and how often in an hour.
from micropython import const

_HOUR = const(3600000)


class Limited:
    # Stands before a relay's switching. What comes too early waits, and the last that was asked for wins.
    def __init__(self, d, part, on, off, hourly):
        self.d = d
        self.part = part
        self.least = (off, on)
        self.hourly = hourly
        self.count = 0  # closings within the last hour
        self.inner = part.switch
        self.marked = part.mark
        part.switch = self.switch
        part.mark = self.mark
        self.want = self.was = part.on
        self.resting = None
        self.moved()  # nobody knows for how long it has been so
        d.listen(part.name + ".on", self.look)

    def mark(self):
        return self.want if self.want != self.part.on else self.marked()

    def switch(self, on):
        self.want = on
        if on != self.part.on and (self.resting or (on and 0 < self.hourly <= self.count)):
            return
        self.inner(on)
        self.look()

    def look(self):
        if self.part.on != self.was:
            self.was = self.part.on
            self.moved()

    def moved(self):
        self.d.cancel(self.resting)
        least = self.least[self.was]
        self.resting = self.d.after(least, self.rested) if least else None
        if self.was and self.hourly:
            self.count += 1
            self.d.after(_HOUR, self.forget)

    def rested(self):
        self.resting = None
        self.catch_up()

    def forget(self):
        self.count -= 1
        self.catch_up()

    def catch_up(self):
        if self.want != self.part.on:
            self.part.switch(self.want)


class Longest:
    # Off after so long, whoever switched it on.
    def __init__(self, d, part, ms):
        self.d = d
        self.part = part
        self.ms = ms
        self.timer = None
        d.listen(part.name + ".on", self.look)
        d.starts.append(self.look)

    def look(self):
        if not self.part.on:
            self.d.cancel(self.timer)
            self.timer = None
        elif self.timer is None:
            self.timer = self.d.after(self.ms, self.end)

    def end(self):
        self.timer = None
        self.d.note(self.part.name + " was on for its longest time")
        self.part.do("off")
