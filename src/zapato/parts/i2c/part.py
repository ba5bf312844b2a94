"""An I2C bus: two lines that several chips share."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from typing import Any

from zapato.lang.fields import choice, measured, pin
from zapato.parts.electrical import RAIL, Passive, line_level, ohms
from zapato.parts.kind import Action, Driver, Kind, Need, Part, Property, ScanEntry
from zapato.parts.scans import on_i2c
from zapato.parts.simulation import Simulation, Stimulus, World
from zapato.parts.stimuli import line_simulation
from zapato.record import record


@record(eq=False)
class ClockLine(Stimulus):
    """The clock line goes to ground, or is free again."""

    sda: int
    scl: int
    low: bool

    def put(self, world: World, value: Any, over: int = 0) -> None:
        world.hold_clock(self.sda, self.scl, self.low)


class I2cKind(Kind):
    """An I2C bus."""

    terminals = {"sda": "SDA", "scl": "SCL"}
    name = "i2c"
    thing = False
    called = "I2C bus"
    help = "an I2C bus"
    fields = (
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
    )
    actions = {"scan": Action(help="ask every address and say which answer")}
    wiring = (
        "SDA to SDA and SCL to SCL, 3.3 V, ground; breakouts differ in the order of their pins. "
        "One pull-up of 4.7 kohm to 3.3 V a line: most breakouts carry 10 kohm each, so two or "
        "three of them are enough and eight are too strong. 30 cm to a metre in all."
    )
    example = "[i2c.main]\nsda = 21\nscl = 22"

    def beside(self, part: Part, logic: float) -> Iterable[Passive]:
        for line in ("sda", "scl"):
            where = f"from {line.upper()} to 3.3 V, where the breakouts carry none"
            yield Passive(
                "resistor", ohms(part.get("pull_ups", 4700)), where, "lets the line rise", line, RAIL
            )

    def properties(self, part: Part) -> Mapping[str, Property]:
        return {"found": Property("text", unknown=True, help="addresses that answered the last scan")}

    def needs(self, part: Part) -> Iterable[Need]:
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

    def driver(self, part: Part) -> Driver | None:
        arguments = (part.pins["sda"].gpio, part.pins["scl"].gpio, round(part.get("speed", 100e3)))
        if part.get("controller", "software") == "hardware":
            return Driver("bus_i2c_hard", "HardBus", arguments)
        return Driver("bus_i2c", "Bus", arguments)

    def simulation(self, part: Part) -> Simulation:
        """Its data line, and its clock."""
        data = line_simulation(part, "sda")
        if not data.gestures or "scl" not in part.pins:
            return data
        sda, scl = part.pins["sda"].gpio, part.pins["scl"].gpio
        clock: dict[str, Stimulus] = {
            "short_clock": ClockLine(sda, scl, True),
            "free_clock": ClockLine(sda, scl, False),
        }
        return replace(data, gestures={**data.gestures, **clock})

    def sights(self, part: Part, text: str) -> Iterable[ScanEntry]:
        return on_i2c(part, text)


KIND = I2cKind()
