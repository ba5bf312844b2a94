# Readings as rows of CSV on a card: files in a row, the oldest of which goes when they are too many or the card is full.
from micropython import const
import os
import vfs

from sdcard import SdCard

from loop import Part

_AT = "/card"
_FILES = const(16)
_CARD_AGAIN = const(10000)  # ms between two looks whether a card is there
_NO_ROOM = (28, 13)  # for bytes, and for a file
_HELD_ROWS = const(8)  # rows that may wait for a card


class Card(Part):
    props = ("ready", "rows")

    def __init__(self, d, name, bus, select, speed, every, most, columns):
        super().__init__(d, name)
        self.sd = SdCard(d.parts[bus], select, speed)
        self.every = every
        self.most = most // _FILES  # bytes of one file
        self.head = "time," + ",".join(columns)
        self.ready = None
        self.rows = 0
        self.size = self.first = self.last = 0
        self.waiting = []
        self.torn = False  # the last row may not be whole
        d.starts.append(self.begin)

    def keeps(self, pages, keys):
        # pages of functions that give a value each; a row has those of the one page
        self.values = pages[0]
        self.d.every(self.every, self.keep)

    # --- the card

    def begin(self):
        try:
            self.sd.begin()
            vfs.mount(vfs.VfsFat(self.sd), _AT)  # type: ignore
            try:
                self.look_around()
            except OSError:
                vfs.umount(_AT)
                raise
        except OSError as error:
            if self.ready is not False:
                self.d.note("%s: no card that can be written (%s)" % (self.name, error))
            self.have(False)
            self.d.after(_CARD_AGAIN, self.begin)
            return
        if self.ready is False:
            self.d.note(self.name + " has a card again")
        self.have(True)

    def have(self, ready):
        if ready != self.ready:
            self.ready = ready
            self.d.changed(self, "ready")

    def look_around(self):
        numbers = sorted([int(row[0][3:8]) for row in os.ilistdir(_AT) if ours(row[0])])
        self.first = numbers[0] if numbers else 1
        self.last = numbers[-1] if numbers else 1
        self.size = os.stat(self.path(self.last))[6] if numbers else 0
        self.torn = False
        if self.size:
            with open(self.path(self.last), "rb") as file:
                file.seek(self.size - 1)
                self.torn = file.read(1) != b"\n"

    def path(self, number):
        return "%s/LOG%05d.CSV" % (_AT, number)

    # --- rows

    def keep(self):
        clock = getattr(self.d, "clock", None)
        when = "+%d" % self.d.uptime() if clock is None or clock.day is None else clock.text()
        row = ",".join([when] + [shown(each()) for each in self.values])
        if len(self.waiting) >= _HELD_ROWS:
            self.waiting.pop(0)
        self.waiting.append(row)
        if not self.ready:
            return
        try:
            self.write()
        except OSError as error:
            self.d.note("%s was not written (%s)" % (self.name, error))
            self.have(False)
            vfs.umount(_AT)
            self.d.after(_CARD_AGAIN, self.begin)

    def write(self):
        if self.size >= self.most:
            self.last += 1
            self.size = 0
        while self.last - self.first >= _FILES:
            self.forget()
        while True:
            try:
                self.append()
                break
            except OSError as error:
                if error.errno not in _NO_ROOM or (self.first == self.last and not self.size):
                    raise
            if self.first == self.last:  # there is room for this file alone: it begins anew
                self.last += 1
                self.size = 0
            self.forget()
        self.rows += len(self.waiting)
        self.waiting.clear()
        self.d.changed(self, "rows")

    def append(self):
        text = "\n".join(self.waiting) + "\n"
        if not self.size:
            text = self.head + "\n" + text
        elif self.torn:
            text = "\n" + text  # a row that was cut stands alone
        self.torn = True
        with open(self.path(self.last), "ab") as file:
            file.write(text.encode())
        self.torn = False
        self.size += len(text)

    def forget(self):
        # The oldest file goes.
        try:
            os.remove(self.path(self.first))
        except OSError as error:
            if error.errno != 2:
                raise
        self.first += 1


def ours(name):
    return len(name) == 12 and name[:3].upper() == "LOG" and name[8:].upper() == ".CSV" and name[3:8].isdigit()


def shown(value):
    if value is None:
        return ""
    if isinstance(value, float):
        return "%.7g" % value
    if isinstance(value, bool):
        return "true" if value else "false"
    text = str(value)
    if "," in text or '"' in text or "\n" in text:
        return '"' + text.replace('"', '""') + '"'
    return text
