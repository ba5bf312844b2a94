# An LED: an output that can blink, and show the device's state.
from output import Output

# A half cycle of the blink code in ms by state: no network, no broker, online (steady).
CODES = (100, 500, 0)


class Led(Output):
    def __init__(self, d, name, gpio, active, on, shows_status):
        super().__init__(d, name, gpio, active, on)
        self.half = 0
        self.lit = self.on
        if shows_status:
            d.lamp = self

    def do(self, action, ms=0):
        self.half = 0
        if action == "blink" and ms > 0:
            self.d.cancel(self.timer)
            self.switch(True)
            self.blink(ms // 2 or 1)
            return True
        return super().do(action, ms)

    def status(self, code):
        half = CODES[code]
        if half:
            if half != self.half:
                self.d.cancel(self.timer)
                self.blink(half)
        else:
            self.do("on")

    def blink(self, half):
        self.half = half
        self.lit = True
        self.level(True)
        self.timer = self.d.after(half, self.flip)

    def flip(self):
        self.lit = not self.lit
        self.level(self.lit)
        self.timer = self.d.after(self.half, self.flip)
