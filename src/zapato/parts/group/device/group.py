# Several parts switched as one: on where any of them is.
from loop import Part
from values import truth


class Group(Part):
    props = ("on",)
    sets = ("on",)

    def __init__(self, d, name, members):
        super().__init__(d, name)
        self.members = members
        self.was = self.on
        for each in members:
            d.listen(each + ".on", self.weigh)

    @property
    def on(self):
        for each in self.members:
            if self.d.parts[each].on:
                return True
        return False

    def mark(self):
        for each in self.members:
            if self.d.parts[each].mark():
                return True
        return False

    def weigh(self):
        if self.on != self.was:
            self.was = not self.was
            self.d.changed(self, "on")

    def set(self, name, value):
        self.do("on" if truth(value) else "off")

    def do(self, action, *given):
        if action == "toggle":
            action = "off" if self.mark() else "on"
        if action not in ("on", "off") or given:
            return False
        for each in self.members:
            part = self.d.parts[each]
            if part.do(action) is False:  # a flag is set, not switched
                part.set("on", action == "on")
        return True
