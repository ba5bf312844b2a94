"""A pin expander on I2C or SPI: `pin = "io.3"` is pin 3 of the expander called io."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from zapato.boards.board import Pin
from zapato.lang.fields import measured, pin
from zapato.parts.bus_chip import (
    addresses,
    bus_of,
    chip_fields,
    chip_of,
    needs,
    place,
    requires,
    stand_in,
    supplied,
)
from zapato.parts.electrical import RAIL, Load, Supplied, drawing, fed
from zapato.parts.expander.chip import ExpanderChip
from zapato.parts.kind import Driver, Kind, Need, Part
from zapato.parts.offered import offered_pin
from zapato.parts.simulation import Simulation


class ExpanderKind(Kind):
    """A pin expander on I2C or SPI; it offers pins to other parts."""

    name = "expander"
    terminals = {"select": "CS", "interrupt": "INT"}
    help = "a pin expander on I2C or SPI; it offers pins to other parts"
    fields = (
        *fed('"3V3"'),
        *chip_fields("expander", selected=True),
        pin(
            "interrupt",
            "the pin that its interrupt line is wired to; without, it is looked at every 20 ms",
            None,
        ),
        measured("supply", "what it runs on", "V", 3.3, least=1.8, most=5.5),
    )
    wiring = (
        "On the bus like any chip: on I2C its address by its address pins, on SPI those to ground; RESET to 3.3 V. The "
        "interrupt line to a pin of the board saves looking fifty times a second. Its pins give 25 mA "
        "(mcp23…) or hardly anything in the high state (pcf857x: LEDs and relay boards that switch with a low level)."
    )
    example = '[i2c.main]\nsda = 21\nscl = 22\n\n[expander.io]\nchip = "mcp23017"\nbus = "main"\n\n[relay.pump]\npin = "io.3"'

    def offers(self, part: Part) -> Mapping[str, Pin]:
        chip = chip_of(part, ExpanderChip)
        if chip is None:
            return {}
        numbers = range(chip.pins)
        return {
            str(n): offered_pin(
                part.name,
                n,
                drives=True,
                pull_up=chip.pull_up,
                source=chip.source,
                bears=part.get("supply", 3.3) + chip.beyond,
                weak_high=chip.weak_high,
            )
            for n in numbers
        }

    def addresses(self, part: Part) -> tuple[int, ...]:
        return addresses(part)

    def bus(self, part: Part) -> str:
        return bus_of(part)

    def requires(self, part: Part) -> Iterable[str]:
        return requires(part)

    def needs(self, part: Part) -> Iterable[Need]:
        yield from needs(part)
        if part.values.get("interrupt") is not None:
            circuit = "the expander's open-drain interrupt line"
            yield Need("interrupt", "input", pull="up", interrupt=True, operated="low", circuit=circuit)

    def loads(self, part: Part) -> Iterable[Load]:
        return drawing(part, "the expander", RAIL, 0.001)

    def supplied(self, part: Part) -> Supplied | None:
        return supplied(part)

    def driver(self, part: Part) -> Driver | None:
        at, chip = place(part), chip_of(part, ExpanderChip)
        if at is None or chip is None:
            return None
        interrupt = part.pins["interrupt"].gpio if "interrupt" in part.pins else None
        return Driver(*chip.driver, (*at, chip.pins // 8, interrupt))

    def simulation(self, part: Part) -> Simulation:
        pins = {int(word): pin.gpio for word, pin in self.offers(part).items()}
        interrupt = part.pins["interrupt"].gpio if "interrupt" in part.pins else None
        chip = stand_in(part, pins, interrupt)
        return Simulation(chips=(chip,) if chip else ())


KIND = ExpanderKind()
