# A number that follows from others: worked out when one of them changes, or every so often.
from sensor import Sensor


class Derived(Sensor):
    props = ("value",)
    value = None
    work_out = None

    def __init__(self, d, name, every, change):
        self.d = d
        self.name = name
        self.every = every
        self.change = change

    def watch(self, read, known, reads, rearm=None):
        self.work_out = read
        if self.every:
            self.d.every(self.every, self.read)
        else:
            for key in reads:
                self.d.listen(key, self.read)
        self.d.starts.append(self.read)

    def measure(self):
        value = self.work_out()  # type: ignore
        if value is None:
            raise ValueError
        return (value,)

    def read(self):
        # What cannot be worked out is unknown: a value that is missing, a division by nothing.
        values = (None,)
        try:
            values = self.measure()
        except MemoryError:
            raise
        except Exception:
            pass
        self.have(values)
