# An LED: an output that can blink, and show the device's state.
from output import Output
from values import span

# The blink code in ms on and off by state: no network, no broker, fine (steady), refused, fine after a fault, an update, the access point.
CODES = ((100, 100), (500, 500), (0, 0), (100, 1900), (1900, 100), (50, 450), (1000, 1000))


class Led(Output):
    fine = 2

    def __init__(self, d, name, gpio, active, on, shows_status):
        super().__init__(d, name, gpio, active, on)
        self.bright = self.dark = 0
        self.lit = self.on
        if shows_status:
            d.lamp = self

    def mark(self):
        return (self.on, self.bright) if self.bright else self.on

    def do(self, action, *given):
        if action == "blink":
            half = span(*given) // 2 or 1
            self.switch(True)
            self.blink(half, half)
            return True
        if action == "toggle":
            action = "off" if self.on else "on"
        self.bright = 0
        return super().do(action, *given)

    def status(self, code):
        if code == 4:
            self.fine = code
        bright, dark = CODES[self.fine if code == 2 else code]
        if not bright:
            self.do("on")
        elif (bright, dark) != (self.bright, self.dark):
            self.blink(bright, dark)

    def blink(self, bright, dark):
        self.d.cancel(self.timer)
        self.timer = None  # it may be that of a pulse
        self.bright = bright
        self.dark = dark
        self.lit = False
        self.flip()

    def flip(self):
        self.lit = not self.lit
        self.level(self.lit)
        ms = self.bright if self.lit else self.dark
        self.timer = self.d.arm(self.timer, ms) if self.timer else self.d.after(ms, self.flip)  # in the memory that it has
