# A guard: over its limit outputs go off, and stay off whatever links, people or timers say.
# It rejects at the part's own do, set and switch, so that links and MQTT are held the same way, and says so in `notes`.
from loop import Part


class Guard(Part):
    props = ("tripped",)
    tripped = False

    def __init__(self, d, name, names, by_hand, patience):
        super().__init__(d, name)
        self.by_hand = by_hand
        self.patience = patience  # ms that the value may be unknown; 0 for ever
        self.blind = None
        self.read = self.known = self.rearm = None
        self.parts = [d.parts[each] for each in names]
        for part in self.parts:
            part.do = self.bar(part.do)
            part.set = self.bar(part.set)
            if hasattr(part, "switch"):
                part.switch = self.bar(part.switch)

    def bar(self, call):
        def barred(*given):
            if self.tripped and not (given[-1] is False or given[0] == "off"):
                self.d.fault(self.name, "it holds off what was to be switched")
                return True
            return call(*given)

        return barred

    def watch(self, read, known, reads, rearm=None):
        self.read = read
        self.known = known
        self.rearm = rearm
        for key in reads:
            self.d.listen(key, self.weigh)
        self.d.starts.append(self.weigh)

    def weigh(self):
        if self.patience:
            if self.known():  # type: ignore
                self.d.cancel(self.blind)
                self.blind = None
            elif self.blind is None:
                self.blind = self.d.after(self.patience, self.lost)
        if self.read():  # type: ignore
            self.trip(True)
        elif not self.by_hand and self.blind is None and not (self.rearm and self.rearm()):
            self.trip(False)

    def lost(self):
        if not self.known():  # type: ignore
            self.trip(True)

    def trip(self, on):
        if on == self.tripped:
            return
        self.tripped = on
        if on:
            for part in self.parts:
                self.d.guard(self.off, part)
        self.d.note(self.name + (" trips" if on else " lets go"))
        self.d.changed(self, "tripped")

    def off(self, part):
        # What waits or keeps to a shortest time gives way: the class's own way to switch knows none of it.
        try:
            part.do("off")
        finally:
            if getattr(part, "on", False) is True and hasattr(part, "switch"):
                type(part).switch(part, False)

    def do(self, action, *given):
        if action == "trip" and not given:
            self.trip(True)
        elif action == "release" and not given:
            if self.read() or (self.rearm and self.rearm()) or not self.known():  # type: ignore
                raise ValueError("not while its limit is passed")
            self.trip(False)
        else:
            return False
        return True
