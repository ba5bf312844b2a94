# Links: when, if, do, with their timing.
# A number that a link computes is held to its range, because a link cannot read a refusal; over MQTT it is refused and told.
from micropython import const

_WAITS = const(8)  # times that one link may wait to act at once; what comes beyond is dropped and counted


class Link:
    # What most links do without is kept here, not in each of them.
    when = test = rearm = None
    takes = ()
    held = wait = waits = span = every = 0
    armed = True
    holding = undoing = taken = None

    def __init__(self, d, number, acts, reads=(), event=None, **more):
        self.d = d
        self.number = number
        self.acts = acts  # functions, or pairs of a part and what it is to do
        for key in more:  # when, test, rearm: functions; takes: parts; held, wait, span: ms
            setattr(self, key, more[key])
        if self.every:
            d.every(self.every, self.fire)
        if event:
            d.listen(event, self.fire)
        for key in reads:  # "part.property" keys that the condition depends on
            d.listen(key, self.weigh)
        if self.when:
            d.starts.append(self.begin)

    def begin(self):
        # What holds at power-up has not come true just now; but `held` counts from then.
        if self.guard(self.when):
            self.armed = False
            if self.held:
                self.holding = self.d.after(self.held, self.fire)

    def guard(self, call, *given):
        # A mistake in one link's expressions is told by its number; as a condition it counts as false.
        try:
            return call(*given)
        except MemoryError:
            raise
        except Exception as error:
            self.d.fault("link %d" % self.number, error)

    def weigh(self):
        if self.guard(self.when):
            if self.armed:
                self.armed = False
                if self.held:
                    self.holding = self.d.after(self.held, self.fire)
                else:
                    self.fire()
            return
        if self.holding:
            self.d.cancel(self.holding)
            self.holding = None
            self.armed = True
        if not (self.rearm and self.guard(self.rearm)):
            self.armed = True

    def fire(self):
        self.holding = None
        if self.test and not self.guard(self.test):
            return
        if self.wait:
            if self.waits < _WAITS:
                self.waits += 1
                self.d.after(self.wait, self.go)
            else:
                self.d.dropped += 1
        else:
            self.go()

    def go(self):
        if self.waits:
            self.waits -= 1
        before = [part.mark() for part in self.takes]
        for act in self.acts:
            done = self.guard(act[0].do, act[1]) if isinstance(act, tuple) else self.guard(act)
            if done is False:
                self.d.fault("link %d" % self.number, "an action was refused")
        if not self.takes:
            return
        # Only what this link changed is taken back, and only where nobody has changed it since.
        self.taken = self.taken or []
        for part, was in zip(self.takes, before):
            if part.mark() != was:
                self.taken.append((part, was, part.mark()))
        if self.taken:
            self.d.cancel(self.undoing)
            self.undoing = self.d.after(self.span, self.undo)

    def undo(self):
        taken, self.taken, self.undoing = self.taken or [], None, None
        for part, was, now in reversed(taken):
            if part.mark() == now:
                part.do("on" if was else "off")
