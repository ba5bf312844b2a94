# A relay: an output that can exclude others.
from output import Output


class Relay(Output):
    dead = 100  # ms from its opening to the closing of another that it excludes

    def __init__(self, d, name, gpio, active, on, excludes):
        self.excludes = excludes
        self.want = False  # closes as soon as the others have been open for long enough
        self.resting = None
        if on:
            for other in excludes:
                if other in d.parts and d.parts[other].on:
                    on = False
        super().__init__(d, name, gpio, active, on)

    def mark(self):
        return self.on or self.want

    def switch(self, on):
        if on and not self.on and self.blocked():
            self.want = True
            return
        self.want = False
        was = self.on
        super().switch(on)
        if was and not on and self.excludes:
            self.d.cancel(self.resting)
            self.resting = self.d.after(self.dead, self.rested)

    def blocked(self):
        waits = False
        for name in self.excludes:
            other = self.d.parts[name]
            if other.mark():
                other.do("off")
            if other.on or other.resting:
                waits = True
        return waits

    def rested(self):
        self.resting = None
        for name in self.excludes:
            other = self.d.parts[name]
            if other.want:
                other.switch(True)
