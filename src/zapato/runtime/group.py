# Several parts switched as one: on where any of them is.


class Group:
    props = ("on",)
    sets = ("on",)
    timed = ()

    def __init__(self, d, name, members):
        self.d = d
        self.name = name
        self.members = members
        self.on = any(d.parts[each].on for each in members)
        d.links.append(self)

    def begin(self):
        self.weigh()

    def hear(self, key, event):
        if not event and key.endswith(".on") and key[:-3] in self.members:
            self.weigh()

    def weigh(self):
        on = any(self.d.parts[each].on for each in self.members)
        if on != self.on:
            self.on = on
            self.d.changed(self, "on")

    def set(self, name, value):
        if name == "on" and value is not None:
            self.do("on" if value else "off")

    def do(self, action):
        if action == "toggle":
            action = "off" if self.on else "on"
        if action not in ("on", "off"):
            return False
        for each in self.members:
            self.d.parts[each].do(action)
        return True
