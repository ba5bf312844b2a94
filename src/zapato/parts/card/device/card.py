# Readings as rows of CSV on a card: files in a row, the oldest of which goes when they are too many or the card is full.
from micropython import const
import os
import vfs  # type: ignore

from sdcard import SdCard

from loop import Part

_FILES = const(16)
_CARD_AGAIN = const(10000)  # ms between two looks whether a card is there
_LAST = const(99999)
_NO_ROOM = (28, 13)  # for bytes, and for a file
_HELD_ROWS = const(8)  # rows that may wait for a card


class Card(Part):
    props = ("ready", "rows")

    def __init__(self, d, name, bus, select, speed, every, most, columns):
        super().__init__(d, name)
        self.at = "/card_" + name
        self.sd = SdCard(d.parts[bus], select, speed)
        self.every = every
        self.most = most // _FILES  # bytes of one file
        self.head = "time," + ",".join(columns) + "\n"
        self.ready = None
        self.rows = 0
        self.size = self.number = 0  # of the file that is written
        self.waiting = []
        self.torn = False  # its last row may not be whole
        self.mounted = False
        self.bad = False  # it was told that the card is none, or takes nothing
        d.starts.append(self.begin)

    def keeps(self, pages, keys):
        # pages of functions that give a value each; a row has those of the one page
        self.values = pages[0]
        self.d.every(self.every, self.keep)

    # --- the card

    def begin(self):
        again = self.d.after(_CARD_AGAIN, self.begin)  # whatever happens now
        try:
            self.sd.begin()
            vfs.mount(vfs.VfsFat(self.sd), self.at)  # type: ignore
            try:
                self.look_around()
            except BaseException:
                vfs.umount(self.at)
                raise
        except OSError as error:
            self.tell("no card that can be written", error)
            return
        self.d.cancel(again)
        self.mounted = True
        if not self.bad:
            self.have(True)

    def tell(self, what, error):
        # Once, until a row is written again.
        self.have(False)
        if not self.bad:
            self.bad = True
            self.d.note("%s: %s (%s)" % (self.name, what, error))

    def have(self, ready):
        if ready != self.ready:
            self.ready = ready
            self.d.changed(self, "ready")

    def numbers(self):
        # Of our files, as they stand on the card: there may be more than fit into memory.
        for row in os.ilistdir(self.at):
            name = row[0].upper()
            if len(name) == 12 and name[:3] == "LOG" and name[8:] == ".CSV" and name[3:8].isdigit():
                yield int(name[3:8])

    def look_around(self):
        # Rows go on in the newest file, where it is one of this program's and there is room in it.
        self.number = max(self.numbers(), default=0)
        self.size = self.most
        self.torn = False
        if not self.number:
            return
        size = os.stat(self.path())[6]
        if 0 < size < self.most:
            with open(self.path(), "rb") as file:
                if file.read(len(self.head)) == self.head.encode():
                    file.seek(size - 1)
                    self.torn = file.read(1) != b"\n"
                    self.size = size

    def path(self, number=0):
        return "%s/LOG%05d.CSV" % (self.at, number or self.number)

    # --- rows

    def keep(self):
        clock = getattr(self.d, "clock", None)
        when = "+%d" % self.d.uptime() if clock is None or clock.day is None else clock.text()
        row = ",".join([when] + [shown(each()) for each in self.values])
        if len(self.waiting) >= _HELD_ROWS:
            self.waiting.pop(0)
        self.waiting.append(row)
        if not self.mounted:
            return
        try:
            self.write()
        except OSError as error:
            self.mounted = False
            self.tell("a row was not written", error)
            self.d.after(_CARD_AGAIN, self.begin)
            vfs.umount(self.at)
            return
        self.have(True)
        if self.bad:
            self.bad = False
            self.d.note(self.name + " has a card again")

    def write(self):
        try:
            if self.size >= self.most:
                self.next()
            self.append()
        except OSError as error:
            # A full card: the oldest file makes room, and if that is this one, the next begins.
            if error.errno not in _NO_ROOM or not self.forget():
                raise
            self.append()
        self.rows += len(self.waiting)
        self.waiting.clear()
        self.d.changed(self, "rows")

    def next(self):
        if self.number >= _LAST:
            raise OSError("its numbers are at their end")
        self.number += 1
        self.size = 0
        count = 0
        for _ in self.numbers():
            count += 1
        if count >= _FILES:
            self.forget()

    def append(self):
        text = "\n".join(self.waiting) + "\n"
        if not self.size:
            text = self.head + text
        elif self.torn:
            text = "\n" + text  # a row that was cut stands alone
        data = text.encode()
        self.torn = True
        with open(self.path(), "ab") as file:
            file.write(data)
        self.torn = False
        self.size += len(data)

    def forget(self):
        # The oldest file goes; False where there is none.
        oldest = min(self.numbers(), default=0)
        if oldest:
            os.remove(self.path(oldest))
            if oldest == self.number:
                self.number += 1
                self.size = 0
        return oldest


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
