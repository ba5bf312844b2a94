# Links: when, if, do, with their timing.


class Link:
    def __init__(self, d, reads, event, when, test, act, undo, rearm, held, wait, span):
        self.d = d
        self.reads = reads  # "part.property" keys that the condition depends on
        self.event = event  # "part.event", or None
        self.when = when
        self.test = test
        self.act = act
        self.undo = undo
        self.rearm = rearm
        self.held = held
        self.wait = wait
        self.span = span
        self.armed = True
        self.holding = None
        self.undoing = None
        d.links.append(self)

    def begin(self):
        if self.when and self.when():
            self.armed = False

    def hear(self, key, event):
        if event:
            if key == self.event:
                self.fire()
        elif self.when and key in self.reads:
            self.weigh()

    def weigh(self):
        now = self.when()
        if now:
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
        if not (self.rearm and self.rearm()):
            self.armed = True

    def fire(self):
        self.holding = None
        if self.test and not self.test():
            return
        if self.wait:
            self.d.after(self.wait, self.go)
        else:
            self.go()

    def go(self):
        self.act()
        if self.span:
            self.d.cancel(self.undoing)
            self.undoing = self.d.after(self.span, self.undo)


class Follow:
    # An output that shows an expression all the time.
    def __init__(self, d, part, when, reads):
        self.part = part
        self.when = when
        self.reads = reads
        d.links.append(self)

    def begin(self):
        self.part.do("on" if self.when() else "off")

    def hear(self, key, event):
        if not event and key in self.reads:
            self.begin()
