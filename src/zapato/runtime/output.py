# One switched pin: what relays and LEDs share.
from machine import Pin


class Output:
    props = ("on",)
    sets = ("on",)
    timed = ("pulse", "blink")

    def __init__(self, d, name, gpio, active, on):
        self.d = d
        self.name = name
        self.active = active
        self.on = bool(on)
        self.pin = Pin(gpio, Pin.OUT, value=active if on else 1 - active)
        self.timer = None

    def level(self, on):
        self.pin.value(self.active if on else 1 - self.active)

    def switch(self, on):
        on = bool(on)
        self.level(on)
        if on != self.on:
            self.on = on
            self.d.changed(self, "on")

    def set(self, name, value):
        if name == "on" and value is not None:
            self.do("on" if value else "off")

    def do(self, action, ms=0):
        self.d.cancel(self.timer)
        if action == "toggle":
            action = "off" if self.on else "on"
        if action in ("on", "off"):
            self.switch(action == "on")
        elif action == "pulse" and ms > 0:
            self.switch(True)
            self.timer = self.d.after(ms, self.back)
        else:
            return False
        return True

    def back(self):
        self.do("off")
