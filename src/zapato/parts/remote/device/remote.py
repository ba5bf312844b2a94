# A button of a remote, or a plug: one code of a receiver.
from loop import Part


class Remote(Part):
    props = ("down",)
    down = False

    def __init__(self, d, name, receiver, code):
        super().__init__(d, name)
        self.code = code
        self.radio = d.parts[receiver]
        self.radio.ears[code] = self

    def moved(self, down):
        self.down = down
        self.d.changed(self, "down")
        self.d.emit(self, "pressed" if down else "released")

    def do(self, action, *given):
        if action != "send" or given:
            return False
        self.radio.send(self.code)
        return True
