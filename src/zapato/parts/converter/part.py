"""An analog-to-digital converter on I2C or SPI: `pin = "adc.0"` is input 0 of the converter called adc."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from zapato.boards.board import Pin
from zapato.lang.fields import measured
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
from zapato.parts.converter.chip import ConverterChip
from zapato.parts.electrical import RAIL, Load, Supplied, drawing, fed
from zapato.parts.kind import Driver, Kind, Need, Part
from zapato.parts.offered import offered_pin
from zapato.parts.simulation import Simulation


class ConverterKind(Kind):
    """An analog-to-digital converter on I2C or SPI; it offers analog inputs to sensors."""

    name = "converter"
    terminals = {"select": "CS"}
    help = "an analog-to-digital converter on I2C or SPI; it offers analog inputs to sensors"
    fields = (
        *fed('"3V3"'),
        *chip_fields("converter", selected=True),
        measured("supply", "what it runs on", "V", 3.3, least=2.0, most=5.5),
    )
    wiring = (
        "On the bus like any chip: on I2C the address by what its address pins lead to, on SPI its select line to a "
        "pin; one with a VREF or REF pin has that on its supply. Its inputs take from ground to its supply, no more: a "
        "divider in front of anything higher."
    )
    example = '[i2c.main]\nsda = 21\nscl = 22\n\n[converter.adc]\nchip = "ads1115"\nbus = "main"\n\n[sensor.tank]\nchip = "analog"\npin = "adc.0"'

    def offers(self, part: Part) -> Mapping[str, Pin]:
        chip = chip_of(part, ConverterChip)
        if chip is None:
            return {}
        bears = part.get("supply", 3.3) + chip.beyond
        return {
            str(n): offered_pin(part.name, n, adc=True, source=chip.source, bears=bears)
            for n in range(chip.inputs)
        }

    def loads(self, part: Part) -> Iterable[Load]:
        return drawing(part, "the converter", RAIL, 0.001)

    def supplied(self, part: Part) -> Supplied | None:
        return supplied(part)

    def driver(self, part: Part) -> Driver | None:
        at, chip = place(part), chip_of(part, ConverterChip)
        return Driver(*chip.driver, (*at, *chip.arguments(part.get("supply", 3.3)))) if at and chip else None

    def simulation(self, part: Part) -> Simulation:
        chip = stand_in(part, {int(word): pin.gpio for word, pin in self.offers(part).items()})
        return Simulation(chips=(chip,) if chip else ())

    def addresses(self, part: Part) -> tuple[int, ...]:
        return addresses(part)

    def bus(self, part: Part) -> str:
        return bus_of(part)

    def requires(self, part: Part) -> Iterable[str]:
        return requires(part)

    def needs(self, part: Part) -> Iterable[Need]:
        return needs(part)


KIND = ConverterKind()
