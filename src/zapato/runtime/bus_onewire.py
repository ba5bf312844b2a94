# A one-wire bus, through the ports' own onewire module.
import onewire
from machine import Pin

from loop import Part


class OneWireBus(Part):
    props = ("found",)

    def __init__(self, d, name, gpio):
        super().__init__(d, name)
        self.found = None
        self.wire = onewire.OneWire(Pin(gpio))
        self.roms = ()
        d.after(20, self.scan)

    def scan(self):
        self.roms = self.wire.scan()
        self.found = " ".join(["".join(["%02x" % byte for byte in rom]) for rom in self.roms])
        self.d.changed(self, "found")
        self.d.note(self.name + " found " + (self.found or "nothing"))

    def do(self, action, *given):
        if action != "scan" or given:
            return False
        self.scan()
        return True
