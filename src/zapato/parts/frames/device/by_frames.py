# Lamps and blinds behind a controller of their own: what comes back wins over what was sent.
from micropython import const
import time

from leveled import Leveled
from loop import Part
from values import number

_FADING = const(200)  # ms between two steps of a fade
_AT_REST = const(2000)  # ms without another position until a blind counts as at rest


class FrameDimmer(Leveled):
    def __init__(self, d, name, way):
        super().__init__(d, name)
        self.way = d.parts[way]
        self.on = False
        self.level = 100
        self.fading = None
        for each in self.props:
            d.listen(way + "." + each, self.told)

    def told(self):
        level = getattr(self.way, "level", None)
        on = getattr(self.way, "on", None)
        if on is None and level is not None:
            on = level > 0
        if level:  # 0 is off: where it goes when it is switched on stays
            self.have("level", level)
        if on is not None:
            self.have("on", on)

    def have(self, name, value):
        if value != getattr(self, name):
            setattr(self, name, value)
            self.d.changed(self, name)

    def go(self, level, ms=0):
        self.d.cancel(self.fading)
        self.fading = None
        if ms >= _FADING:
            self.aim = (time.ticks_ms(), ms, self.level if self.on else 0, level)
            self.fading = self.d.every(_FADING, self.fade, 1)
        else:
            self.send(level)

    def fade(self):
        begun, ms, low, high = self.aim
        passed = time.ticks_diff(time.ticks_ms(), begun)
        if passed >= ms:
            self.go(high)
        else:
            self.send(round(low + (high - low) * passed / ms, 1))

    def send(self, level):
        on = level > 0
        says = self.way.says
        if on and level != self.level and "level" not in says:
            raise ValueError("its frames have no level")
        stands = getattr(self.way, "level", None)  # some say 0 while they are off, and stay there
        if on and level != (self.level if stands is None else stands) and "level" in says or "on" not in says:
            self.way.say("level", level=level, on=on)
        if on != self.on and not (not on and self.way.say("off")):
            self.way.say("on", on=on)
        if not self.way.hears:  # nobody will tell
            if on:
                self.have("level", level)
            self.have("on", on)


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
