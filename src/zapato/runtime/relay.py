# A relay: an output that can exclude others and remember its state.
from output import Output


class Relay(Output):
    def __init__(self, d, name, gpio, active, on, keeps, excludes):
        self.keeps = keeps
        self.excludes = excludes
        if keeps:
            import store

            on = store.get(name, False)
        super().__init__(d, name, gpio, active, on)

    def switch(self, on):
        if on:
            for other in self.excludes:
                self.d.parts[other].do("off")
            for other in self.d.parts.values():
                if self.name in getattr(other, "excludes", ()):
                    other.do("off")
        was = self.on
        super().switch(on)
        if self.keeps and was != self.on:
            import store

            store.put(self.name, self.on)
