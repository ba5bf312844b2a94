# A one-wire bus, through the ports' own onewire module.
import onewire
from machine import Pin

from loop import Part


class OneWireBus(Part):
    props = ("found",)

    def __init__(self, d, name, gpio):
        super().__init__(d, name)
        self.found = None
        self.pin = Pin(gpio)
        self.wire = onewire.OneWire(self.pin)
        self.roms = ()
        d.after(20, self.scan)

    def scan(self):
        # A line that is held low answers with 255 numbers, one after the other: seconds, and kilobytes.
        held = not self.pin.value()
        self.roms = () if held else self.wire.scan()
        self.found = " ".join(["".join(["%02x" % byte for byte in rom]) for rom in self.roms])
        self.d.changed(self, "found")
        self.d.note(self.name + " found " + ("a line that is held low" if held else self.found or "nothing"))

    def do(self, action, *given):
        if action != "scan" or given:
            return False
        self.scan()
        return True
