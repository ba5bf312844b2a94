# One switched pin: what relays and LEDs share.
from loop import Part
from pins import output_pin
from values import span, truth


class Output(Part):
    props = ("on",)
    sets = ("on",)
    timed = ("pulse", "blink")

    def __init__(self, d, name, gpio, active, on):
        super().__init__(d, name)
        self.active = active
        self.on = bool(on)
        self.pin = output_pin(d, gpio, active if on else 1 - active)
        self.timer = None

    def level(self, on):
        self.pin.value(self.active if on else 1 - self.active)

    def switch(self, on):
        self.level(on)
        if on != self.on:
            self.on = on
            self.d.changed(self, "on")

    def set(self, name, value):
        self.do("on" if truth(value) else "off")

    def do(self, action, *given):
        if action == "toggle":
            action = "off" if self.mark() else "on"
        ms = 0
        if action == "pulse":
            ms = span(*given)
        elif action not in ("on", "off") or given:
            return False
        self.d.cancel(self.timer)
        self.switch(action != "off")
        if ms:
            self.timer = self.d.after(ms, self.back)
        return True

    def back(self):
        self.do("off")
