# What everything with a level from 0 to 100 takes: settings, switching, fades.
# While it is off its level stays: it says where it goes when it is switched on.
from loop import Part
from values import number, span, truth


class Leveled(Part):
    # `level` is where it goes or stands while it is on; `on` tells whether it is.
    props = ("on", "level")
    sets = ("on", "level")
    timed = ("fade",)

    def mark(self):
        return (self.on, self.level) if self.on else False  # type: ignore

    def take(self, name, value):
        if name == "level":
            number(value, 0, 100)
        self.set(name, value)

    def set(self, name, value):
        if name == "on":
            self.do("on" if truth(value) else "off")
        else:
            self.go(min(100, max(0, number(value))))  # type: ignore

    def do(self, action, *given):
        if action == "toggle" and not given:
            action = "off" if self.on else "on"  # type: ignore
        if action == "fade" and len(given) == 2:
            self.go(number(given[0], 0, 100), span(given[1]))  # type: ignore
        elif action in ("on", "off") and not given:
            self.go(self.level if action == "on" else 0)  # type: ignore
        else:
            return False
        return True
