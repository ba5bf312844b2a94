# An output that shows an expression all the time.


class Follow:
    def __init__(self, d, part, when, reads):
        self.d = d
        self.part = part
        self.when = when
        for key in reads:
            d.listen(key, self.show)
        d.starts.append(self.show)

    def show(self):
        on = False
        try:
            on = self.when()
        except MemoryError:
            raise
        except Exception as error:
            self.d.fault("shows of " + self.part.name, error)
        self.part.do("on" if on else "off")
