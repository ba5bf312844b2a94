"""A sensor: a chip, or a bare analog input, that measures something every so often.

Each chip is one module in `zapato.parts.sensors` with a `CHIP`; adding a chip is adding one module.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import replace

from zapato.errors import ZapatoError
from zapato.lang.fields import (
    Field,
    Wrong,
    choice,
    measured,
    names,
    number,
    pin,
    quantities,
    span,
    whole,
)
from zapato.parts import treatment
from zapato.parts.bus_chip import chip_field
from zapato.parts.electrical import GROUND, OWN, RAIL, Load, Passive, Supplied, by_module, fed, ohms, usual
from zapato.parts.model import Action, Bench, Driver, Kind, Need, Part, Property
from zapato.parts.sensors import SensorChip, chip, chip_names
from zapato.parts.stimuli import Fault


def _load(name: str) -> None:
    try:
        chip(name)
    except ZapatoError as error:  # its description, or its extension, has a mistake
        raise Wrong(f"is {name}, which cannot be used: {error}", error.fix) from None


def _read_serial(value: object) -> str:
    if not isinstance(value, str) or not re.fullmatch(r"[0-9a-fA-F]{16}", value):
        raise Wrong("takes the 16 hexadecimal digits that the scan in the log shows")
    from zapato.parts.onewire.part import crc8

    if crc8(bytes.fromhex(value)):
        raise Wrong(
            "has a check byte, its last two digits, that does not fit the others", "look for a typing mistake"
        )
    return value.lower()


def _chip(part: Part) -> SensorChip | None:
    name = part.get("chip", "")
    return chip(name) if name else None


def _properties(part: Part) -> Mapping[str, Property]:
    found = _chip(part)
    return treatment.properties(part, found.properties) if found else {}


def _needs(part: Part) -> Iterable[Need]:
    found = _chip(part)
    if found and _on_spi(part, found):
        return [
            Need(
                "select", "output", active="low", timed=True, circuit=f"the select input of the {found.name}"
            )
        ]
    if not found or not found.need or part.values.get("pin") is None:
        return []
    pull = part.get("pull", "up") if found.name == "pulse" else "none"
    level = part.get("level", 0.0)
    needs = [replace(found.need, pull="" if pull == "none" else pull, volts=level or found.need.volts)]
    if found.name == "echo" and part.values.get("trigger") is not None:
        needs.append(Need("trigger", "output", timed=True, circuit="the trigger input of the sensor"))
    return needs


def _on_spi(part: Part, found: SensorChip) -> bool:
    return found.spi and part.values.get("select") is not None


def _bus(part: Part) -> str:
    found = _chip(part)
    return "spi" if found and _on_spi(part, found) else found.bus if found else ""


def _addresses(part: Part) -> tuple[int, ...]:
    found = _chip(part)
    return found.addresses if found and not _on_spi(part, found) else ()


def _driver(part: Part) -> Driver | None:
    found = _chip(part)
    if not found:
        return None
    driver, names = found.driver(part), tuple(found.properties)
    through = tuple(treatment.arguments(part, names))
    repeat = part.get("repeat", 0)
    given = part.values.get("gives")
    return replace(
        driver,
        through=through if any(through) else (),
        wraps=(("through", "Repeated", (repeat,)),) if repeat else (),
        gives=str(given) if given else "",
    )


TAKEN = 0.005


def _loads(part: Part) -> Iterable[Load]:
    found = _chip(part)
    if found is None or found.only or found.name in INSIDE:
        return
    given = part.values.get("current")
    known = found.draws or TAKEN
    source = OWN if given is not None else found.source if found.draws else usual("5 mA for a sensor")
    taken = known if given is None else given
    yield Load(found.name, part.get("fed_from", RAIL), 0, taken / 2, taken, source)


def _supplied(part: Part) -> Supplied | None:
    found = _chip(part)
    if found is None or found.only or found.name in INSIDE:
        return None
    if not found.takes:
        return by_module(part, Supplied(found.name, 0, 60, "", lifts=found.lifts) if found.lifts else None)
    return by_module(part, Supplied(found.name, *found.takes, found.source, found.reads_high, found.lifts))


def _beside(part: Part, logic: float) -> Iterable[Passive]:
    """What stands beside a sensor: the divider or fixed resistor that its table names, a pull-up."""
    found = _chip(part)
    name = found.name if found else ""
    if name == "analog" and part.values.get("divider"):
        upper, lower = part.values["divider"]
        yield Passive(
            "resistor", ohms(upper), "between sensor and pin", "the upper one of the divider", "pin"
        )
        yield Passive(
            "resistor", ohms(lower), "from the pin to ground", "the lower one of the divider", "pin", GROUND
        )
    elif name == "ntc":
        other = "3.3 V" if part.get("side", "ground") == "ground" else "ground"
        yield Passive(
            "resistor",
            ohms(part.get("series", 10_000)),
            f"from the pin to {other}",
            "divides with the thermistor",
            "pin",
            RAIL if part.get("side", "ground") == "ground" else GROUND,
        )
    elif name in ("dht11", "dht22"):
        yield Passive(
            "resistor",
            "10 kohm",
            "from DATA to 3.3 V, where the breakout has none",
            "holds the line high",
            "pin",
            RAIL,
        )
    elif name == "echo":
        yield Passive(
            "resistor",
            "1 kohm",
            "between ECHO and the pin, for a module of 5 V",
            "upper one of a divider",
            "pin",
        )
        yield Passive(
            "resistor",
            "1.8 kohm",
            "from the pin to ground, for a module of 5 V",
            "lower one of a divider",
            "pin",
            GROUND,
        )


INSIDE = ("board", "die")
"""Sensors that are in the chip."""


AILS = {"fall_silent": "silent", "garbage": "garbage", "answer": ""}
"""What a rehearsal can do to a chip on a bus or a line."""


def _bench(part: Part) -> Bench:
    """The chip's own stand-in; whatever it hangs on, it can fall silent, answer nonsense, and answer again."""
    found = _chip(part)
    made = found.bench(part) if found else Bench()
    place = next((each.place for each in made.sets.values()), None)
    if place is None:
        return made
    return replace(made, acts={word: Fault(*place, fault) for word, fault in AILS.items()} | dict(made.acts))


def _requires(part: Part) -> Iterable[str]:
    found = _chip(part)
    if found is None:
        return ()
    if found.bus:
        return ("bus",)
    if found.need is None:
        return ()
    return ("pin", "trigger") if found.name == "echo" else ("pin",)


KIND = Kind(
    name="sensor",
    help="a chip, or a bare analog input, that measures something every so often",
    fields=(
        chip_field('what it is: a chip\'s part number, or "analog"', chip_names, _load),
        pin("pin", "the data pin, for a chip on one wire or an analog input", None),
        names("bus", "the bus it hangs on, for a chip on I2C or one-wire", None, role="bus"),
        whole("address", "its address on the bus", None, least=1, most=127),
        Field(
            "serial",
            _read_serial,
            {"type": "string", "pattern": "^[0-9a-fA-F]{16}$"},
            "its serial number, for a chip on a one-wire bus; the scan in the log shows it",
            None,
        ),
        measured("every", "the time from one reading to the next", "time", 30_000, least=100),
        number("change", "report only a change of at least this much; 0 reports every reading", 0),
        pin("trigger", "the pin that asks for an echo, for chip echo", None),
        pin("select", "the pin that selects the chip on an SPI bus, for chips that can hang on one", None),
        choice("pull", "the internal resistor at a pulse input", "up", "none", default="up"),
        choice("active", "the level of a pulse", "high", "low", default="low"),
        measured("nominal", "a thermistor's resistance at 25 °C", "ohm", 10_000, least=1),
        number("beta", "a thermistor's beta, K", 3950),
        measured("series", "the fixed resistor beside a thermistor", "ohm", 10_000, least=1),
        choice("side", "what the thermistor leads to from the pin", "ground", "supply", default="ground"),
        measured(
            "level",
            "the high level on its data line, where that is not its supply's",
            "V",
            None,
            least=1,
            most=30,
        ),
        span("range", "what an analog sensor puts out", "V", None),
        *treatment.FIELDS,
        *fed('"3V3"'),
        quantities(
            "divider",
            "resistors between sensor and pin, upper and lower, where a divider is fitted",
            "ohm",
            2,
            None,
        ),
        measured(
            "source_resistance", "what the output of an analog sensor has in series", "ohm", 0, most=1e9
        ),
    ),
    properties=_properties,
    actions={"read": Action(help="read now")},
    needs=_needs,
    told_by="serial",
    driver=_driver,
    bench=_bench,
    requires=_requires,
    bus=_bus,
    addresses=_addresses,
    loads=_loads,
    supplied=_supplied,
    terminals={"pin": "DATA", "select": "CS", "trigger": "TRIG"},
    beside=_beside,
    wiring=("What each chip wants is said with the chips below."),
    example='[sensor.cabinet]\nchip = "dht22"\npin = 27\nevery = "20s"',
)
