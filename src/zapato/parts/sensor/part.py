"""A sensor: a chip, or a bare analog input, that measures something every so often.

Each chip is a bundle with a `CHIP` (ours are folders of parts/sensors), or a description; adding a chip is adding one of these.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from typing import Any

from zapato.errors import ZapatoError
from zapato.lang.fields import (
    Field,
    Wrong,
    measured,
    names,
    number,
    pin,
    whole,
)
from zapato.parts import treatment
from zapato.parts.bus_chip import chip_field
from zapato.parts.electrical import OWN, RAIL, Load, Passive, Supplied, by_module, fed, usual
from zapato.parts.kind import Action, Driver, Kind, Need, Part, Property
from zapato.parts.sensors import SensorChip, chip, chip_names
from zapato.parts.simulation import Simulation
from zapato.parts.stimuli import AILS, ChipFault


def _load(name: str) -> None:
    try:
        chip(name)
    except ZapatoError as error:  # its description, or its extension, has a mistake
        raise Wrong(f"is {name}, which cannot be used: {error}", error.fix) from None


def _chip(part: Part) -> SensorChip | None:
    name = part.get("chip", "")
    return chip(name) if name else None


def _on_spi(part: Part, chip: SensorChip) -> bool:
    return chip.spi and part.values.get("select") is not None


TAKEN = 0.005


def _fields(name: str) -> tuple[Field, ...]:
    try:
        return chip(name).fields
    except ZapatoError:  # told where the chip is read
        return ()


class SensorKind(Kind):
    """A chip, or a bare analog input, that measures something every so often."""

    name = "sensor"
    late = True
    help = "a chip, or a bare analog input, that measures something every so often"
    fields = (
        chip_field('what it is: a chip\'s part number, or "analog"', chip_names, _load),
        pin("pin", "the data pin, for a chip on one wire or an analog input", None),
        names("bus", "its bus, for a chip on I2C or one-wire", None, role="bus"),
        whole("address", "its address on the bus", None, least=1, most=127),
        measured("every", "the time from one reading to the next", "time", 30_000, least=100),
        number("change", "report only a change of at least this much; 0 reports every reading", 0),
        pin("select", "the pin that selects the chip on an SPI bus, for chips that can hang on one", None),
        measured(
            "level",
            "the high level on its data line, where that is not its supply's",
            "V",
            None,
            least=1,
            most=30,
        ),
        *treatment.FIELDS,
        *fed('"3V3"'),
    )
    actions = {"read": Action(help="read now")}
    identified_by = "serial"
    terminals = {"pin": "DATA", "select": "CS", "trigger": "TRIG"}
    wiring = "What each chip wants is said with the chips below."
    example = '[sensor.cabinet]\nchip = "dht22"\npin = 27\nevery = "20s"'

    def more(self, table: Mapping[str, Any]) -> tuple[Field, ...]:
        """The fields of its chip; while that is not known, those of every chip, so that only the chip is found wrong."""
        name = table.get("chip")
        if not isinstance(name, str) or name not in chip_names():
            return tuple(
                {field.name: field for fields in self.every_more().values() for field in fields}.values()
            )
        return _fields(name)

    def every_more(self) -> Mapping[str, tuple[Field, ...]]:
        return {name: fields for name in chip_names() if (fields := _fields(name))}

    def properties(self, part: Part) -> Mapping[str, Property]:
        chip = _chip(part)
        return treatment.properties(part, chip.properties) if chip else {}

    def needs(self, part: Part) -> Iterable[Need]:
        chip = _chip(part)
        if chip and _on_spi(part, chip):
            return [
                Need(
                    "select",
                    "output",
                    active="low",
                    timed=True,
                    circuit=f"the select input of the {chip.name}",
                )
            ]
        if not chip or not chip.need or part.values.get("pin") is None:
            return []
        level = part.get("level", 0.0)
        return [
            replace(need, volts=level or need.volts) if need.field == "pin" else need
            for need in chip.needs(part)
        ]

    def driver(self, part: Part) -> Driver | None:
        chip = _chip(part)
        if not chip:
            return None
        driver, names = chip.driver(part), tuple(chip.properties)
        through = tuple(treatment.arguments(part, names))
        repeat = part.get("repeat", 0)
        given = part.values.get("gives")
        return replace(
            driver,
            through=through if any(through) else (),
            wraps=(("treatment", "Repeated", (repeat,)),) if repeat else (),
            gives=str(given) if given else "",
        )

    def simulation(self, part: Part) -> Simulation:
        """The chip's own stand-in; whatever it hangs on, it can fall silent, answer nonsense, and answer again."""
        chip = _chip(part)
        made = chip.simulation(part) if chip else Simulation()
        place = next((stimulus.place for stimulus in made.stimuli.values()), None)
        if place is None:
            return made
        return replace(
            made,
            gestures={word: ChipFault(*place, fault) for word, fault in AILS.items()} | dict(made.gestures),
        )

    def requires(self, part: Part) -> Iterable[str]:
        chip = _chip(part)
        if chip is None:
            return ()
        hangs = ("bus",) if chip.bus else () if chip.need is None else ("pin",)
        return hangs + chip.requires

    def bus(self, part: Part) -> str:
        chip = _chip(part)
        return "spi" if chip and _on_spi(part, chip) else chip.bus if chip else ""

    def addresses(self, part: Part) -> tuple[int, ...]:
        chip = _chip(part)
        return chip.addresses if chip and not _on_spi(part, chip) else ()

    def loads(self, part: Part) -> Iterable[Load]:
        chip = _chip(part)
        if chip is None or chip.inside:
            return
        given = part.values.get("current")
        known = chip.draws or TAKEN
        source = OWN if given is not None else chip.source if chip.draws else usual("5 mA for a sensor")
        taken = known if given is None else given
        yield Load(chip.name, part.get("fed_from", RAIL), 0, taken / 2, taken, source)

    def supplied(self, part: Part) -> Supplied | None:
        chip = _chip(part)
        if chip is None or chip.inside:
            return None
        if not chip.takes:
            return by_module(part, Supplied(chip.name, 0, 60, "", lifts=chip.lifts) if chip.lifts else None)
        return by_module(part, Supplied(chip.name, *chip.takes, chip.source, chip.reads_high, chip.lifts))

    def beside(self, part: Part, logic: float) -> Iterable[Passive]:
        chip = _chip(part)
        return chip.beside(part) if chip else ()


KIND = SensorKind()
