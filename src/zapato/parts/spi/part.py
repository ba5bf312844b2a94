"""An SPI bus."""

from __future__ import annotations

from collections.abc import Iterable

from zapato.lang.fields import choice, measured, pin
from zapato.parts.kind import Driver, Kind, Need, Part


class SpiKind(Kind):
    """An SPI bus."""

    name = "spi"
    thing = False
    called = "SPI bus"
    help = "an SPI bus"
    fields = (
        pin("sck", "the clock"),
        pin("mosi", "data to the parts"),
        pin("miso", "data from the parts"),
        choice(
            "controller",
            "who makes the clock: the program, on any pins, or a controller of the chip",
            "software",
            "hardware",
            default="hardware",
        ),
        measured("speed", "the clock rate", "Hz", 1e6, least=10e3, most=40e6),
    )
    wiring = (
        "SCK to SCK, MOSI (COPI) to the part's data in, MISO (CIPO) to its data out, one select "
        "line a part, ground; short."
    )
    example = "[spi.panel]\nsck = 18\nmosi = 23\nmiso = 19"

    def needs(self, part: Part) -> Iterable[Need]:
        hardware = part.get("controller", "hardware") == "hardware"
        for line in ("sck", "mosi", "miso"):
            if part.values.get(line) is not None:
                use = "input" if line == "miso" else "output"
                yield Need(
                    line,
                    use,
                    controller=f"spi.{line}" if hardware else "",
                    circuit=f"the {line} line of an SPI bus",
                )

    def driver(self, part: Part) -> Driver:
        lines = (part.pins[line].gpio for line in ("sck", "mosi", "miso"))
        arguments = (*lines, round(part.get("speed", 1e6)))
        if part.get("controller", "hardware") == "hardware":
            return Driver("bus_spi_hard", "HardSpiBus", arguments)
        return Driver("bus_spi", "SpiBus", arguments)


KIND = SpiKind()
