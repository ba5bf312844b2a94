"""An I2C bus: two lines that several chips share."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from zapato.lang.fields import choice, measured, pin
from zapato.parts.electrical import RAIL, Passive, line_level, ohms
from zapato.parts.model import Action, Bench, Driver, Kind, Need, Part, Property
from zapato.parts.sights import on_i2c
from zapato.parts.stimuli import line_bench


def _needs(part: Part) -> Iterable[Need]:
    hardware = part.get("controller", "software") == "hardware"
    for line in ("sda", "scl"):
        yield Need(
            line,
            "line",
            rest="high",
            firm=True,
            controller=f"i2c.{line}" if hardware else "",
            volts=part.get("level", 0.0),
            circuit="an I2C line, which its pull-up resistor holds high",
        )


def _driver(part: Part) -> Driver | None:
    arguments = (part.pins["sda"].gpio, part.pins["scl"].gpio, round(part.get("speed", 100e3)))
    if part.get("controller", "software") == "hardware":
        return Driver("bus_i2c_hard", "HardBus", arguments)
    return Driver("bus_i2c", "Bus", arguments)


def _bench(part: Part) -> Bench:
    """Its data line, and its clock."""
    data = line_bench("sda")(part)
    if not data.acts or "scl" not in part.pins:
        return data
    sda, scl = part.pins["sda"].gpio, part.pins["scl"].gpio
    clock: dict[str, list[object]] = {
        "short_clock": ["clock", sda, scl, True],
        "free_clock": ["clock", sda, scl, False],
    }
    return replace(data, acts={**data.acts, **clock})


def _beside(part: Part, logic: float) -> Iterable[Passive]:
    for line in ("sda", "scl"):
        where = f"from {line.upper()} to 3.3 V, where the breakouts carry none"
        yield Passive("resistor", ohms(part.get("pull_ups", 4700)), where, "lets the line rise", line, RAIL)


KIND = Kind(
    terminals={"sda": "SDA", "scl": "SCL"},
    beside=_beside,
    name="i2c",
    thing=False,
    called="I2C bus",
    help="an I2C bus",
    fields=(
        pin("sda", "the data line"),
        pin("scl", "the clock line"),
        choice(
            "controller",
            "who makes the clock: the program, on any pins, or a controller of the chip",
            "software",
            "hardware",
            default="software",
        ),
        measured("speed", "the clock rate", "Hz", 100e3, least=10e3, most=1e6),
        measured(
            "pull_ups",
            "the pull-up resistor of each line, all of them together",
            "ohm",
            None,
            least=100,
            most=1e6,
        ),
        line_level(),
        measured("length", "of all its wires together", "m", 0.3, most=20),
    ),
    properties=lambda part: {
        "found": Property("text", unknown=True, help="addresses that answered the last scan")
    },
    actions={"scan": Action(help="ask every address and say which answer")},
    needs=_needs,
    driver=_driver,
    bench=_bench,
    sights=on_i2c,
    wiring=(
        "SDA to SDA and SCL to SCL, 3.3 V, ground; breakouts differ in the order of their pins. "
        "One pull-up of 4.7 kohm to 3.3 V a line: most breakouts carry 10 kohm each, so two or "
        "three of them are enough and eight are too strong. 30 cm to a metre in all."
    ),
    example="[i2c.main]\nsda = 21\nscl = 22",
)
