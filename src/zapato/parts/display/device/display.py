# A display of 128 by 64 points (SSD1306): a line of letters is one of its eight pages, and only lines that changed are sent.
from micropython import const
import framebuf

from loop import Part
from values import number, truth

_GATHERED = const(100)  # ms in which changes are gathered
_GLANCED = const(5000)  # ms between two looks whether it is there
# SSD1306 datasheet, application note: clock, 64 lines, offset, start line, charge pump, horizontal addressing, mapped as most
# breakouts are, contrast, precharge, level, show the memory, not inverted.
_SET_UP = b"\xae\xd5\x80\xa8\x3f\xd3\x00\x40\x8d\x14\x20\x00\xa1\xc8\xda\x12\xd9\xf1\xdb\x40\xa4\xa6"


class Display(Part):
    props = ("page", "on")
    sets = ("page", "on")

    def __init__(self, d, name, bus, address, brightness):
        super().__init__(d, name)
        self.i2c = d.parts[bus].i2c
        self.address = address
        self.brightness = brightness
        self.page = 1
        self.on = True
        self.begun = False
        self.told = False
        self.shown = [None] * 8
        self.timer = None
        self.row = bytearray(129)  # what says that data follow, and a line of points
        self.row[0] = 0x40
        self.frame = framebuf.FrameBuffer(memoryview(self.row)[1:], 128, 8, framebuf.MONO_VLSB)

    def lines(self, pages, keys):
        # pages of functions that give a line each; keys: what they read
        self.pages = pages
        for key in keys:
            self.d.listen(key, self.later)
        self.d.every(_GLANCED, self.later)
        self.later()

    def later(self):
        if not self.timer:
            self.timer = self.d.after(_GATHERED, self.draw)

    def command(self, *data):
        self.i2c.writeto(self.address, b"\x00" + bytes(data))

    def draw(self):
        self.timer = None
        try:
            if not self.begun:
                self.i2c.writeto(self.address, b"\x00" + _SET_UP)
                self.command(0x81, self.brightness, 0xAF if self.on else 0xAE)
                self.begun = True
                self.shown = [None] * 8
            self.command(0xE3)  # nothing: is it there?
            page = self.pages[self.page - 1]
            for n in range(8):
                text = self.d.guard(page[n]) or "" if n < len(page) else ""
                text = text[:16]
                if text != self.shown[n]:
                    self.put(n, text)
                    self.shown[n] = text  # type: ignore
        except OSError:
            self.begun = False
            if not self.told:
                self.told = True
                self.d.note(self.name + " does not answer")
            return
        if self.told:
            self.told = False
            self.d.note(self.name + " answers again")

    def put(self, n, text):
        self.frame.fill(0)
        self.frame.text(text, 0, 0)
        self.command(0x21, 0, 127, 0x22, n, n)
        self.i2c.writeto(self.address, self.row)

    def take(self, name, value):
        self.set(name, value)

    def set(self, name, value):
        if name == "on":
            value = truth(value)
            try:
                self.command(0xAF if value else 0xAE)
            except OSError:
                self.begun = False
        else:
            value = int(number(value, 1, len(self.pages)))
        if value != getattr(self, name):
            setattr(self, name, value)
            self.d.changed(self, name)
            self.later()

    def do(self, action, *given):
        if action == "show" and len(given) == 1:
            self.set("page", given[0])
        elif action == "turn" and not given:
            self.set("page", self.page % len(self.pages) + 1)
        else:
            return False
        return True
