# Lamps and blinds behind a controller of their own: what comes back wins over what was sent.
from micropython import const
import time

from loop import Part
from values import number, span, truth

_FADING = const(200)  # ms between two steps of a fade
_AT_REST = const(2000)  # ms without another position until a blind counts as at rest


class FrameDimmer(Part):
    props = ("on", "level")
    sets = ("on", "level")
    timed = ("fade",)

    def __init__(self, d, name, way):
        super().__init__(d, name)
        self.way = d.parts[way]
        self.on = False
        self.level = 100
        self.fading = None
        for each in self.props:
            d.listen(way + "." + each, self.told)

    def mark(self):
        return (self.on, self.level) if self.on else False

    def told(self):
        level = getattr(self.way, "level", None)
        on = getattr(self.way, "on", None)
        if on is None and level is not None:
            on = level > 0
        if level is not None and (level or "on" in self.way.props):
            self.have("level", level)
        if on is not None:
            self.have("on", on)

    def have(self, name, value):
        if value != getattr(self, name):
            setattr(self, name, value)
            self.d.changed(self, name)

    def go(self, level):
        on = level > 0
        if on and level != self.level or "on" not in self.way.says:
            self.way.say("level", level=level, on=on)
        if on != self.on:
            if on or not self.way.say("off"):
                self.way.say("on", on=on)
        if not self.way.hears:  # nobody will tell
            if on:
                self.have("level", level)
            self.have("on", on)

    def rest(self):
        self.d.cancel(self.fading)
        self.fading = None

    def fade(self):
        begun, ms, low, high = self.aim
        passed = time.ticks_diff(time.ticks_ms(), begun)
        if passed >= ms:
            self.rest()
            self.go(high)
        else:
            self.go(round(low + (high - low) * passed / ms, 1))

    def take(self, name, value):
        if name == "level":
            number(value, 0, 100)
        self.set(name, value)

    def set(self, name, value):
        if name == "on":
            self.do("on" if truth(value) else "off")
        else:
            self.rest()
            self.go(min(100, max(0, number(value))))

    def do(self, action, *given):
        if action == "toggle" and not given:
            action = "off" if self.on else "on"
        self.rest()
        if action == "fade" and len(given) == 2:
            now = self.level if self.on else 0
            self.aim = (time.ticks_ms(), span(given[1]), now, number(given[0], 0, 100))
            self.fading = self.d.every(_FADING, self.fade, 1)
        elif action in ("on", "off") and not given:
            self.go(self.level if action == "on" else 0)
        else:
            return False
        return True


class FrameBlind(Part):
    props = ("position",)
    sets = ("position",)

    def __init__(self, d, name, way):
        super().__init__(d, name)
        self.way = d.parts[way]
        self.position = None
        self.timer = None
        d.listen(way + ".position", self.told)

    def mark(self):
        return self.position

    def told(self):
        position = self.way.position
        if position is not None:
            position = min(100, max(0, position))
        if position != self.position:
            self.position = position
            self.d.changed(self, "position")
            self.d.cancel(self.timer)
            self.timer = self.d.after(_AT_REST, self.rests)

    def rests(self):
        self.timer = None
        self.d.emit(self, "moved")

    def take(self, name, value):
        self.set(name, number(value, 0, 100))

    def set(self, name, value):
        self.go(min(100, max(0, number(value))))

    def go(self, position):
        word = {0: "close", 100: "open"}.get(position)
        if not (word and self.way.say(word)) and not self.way.say("position", position=position):
            raise ValueError("its frames have no position")

    def do(self, action, *given):
        if action == "go" and len(given) == 1:
            self.take("position", given[0])
        elif action in ("open", "close") and not given:
            self.go(100 if action == "open" else 0)
        elif action == "stop" and not given:
            self.way.say("stop")
        else:
            return False
        return True
