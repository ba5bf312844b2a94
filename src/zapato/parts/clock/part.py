"""A clock chip with a battery: the time of day holds without a network."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from zapato.parts.bus_chip import addresses, chip_fields, chip_of, place, stand_in, supplied
from zapato.parts.clock.chip import ClockChip
from zapato.parts.electrical import RAIL, Load, Supplied, drawing, fed
from zapato.parts.kind import Driver, Kind, Part, Property
from zapato.parts.simulation import Simulation, WorldInput
from zapato.parts.stimuli import OnBus


class ClockKind(Kind):
    """A clock chip with a battery, so that times hold without a network; the network sets it."""

    name = "clock"
    help = "a clock chip with a battery, so that times hold without a network; the network sets it"
    fields = (
        *fed('"3V3"'),
        *chip_fields("clock"),
    )
    tells_time = True
    wiring = (
        "On the bus like any chip, with a coin cell of its own. Breakouts that charge a rechargeable cell must not get a primary one: "
        "take the diode or its resistor off."
    )
    example = '[time]\nzone = "Europe/Vienna"\n\n[i2c.main]\nsda = 21\nscl = 22\n\n[clock.wall]\nchip = "ds3231"\nbus = "main"'

    def properties(self, part: Part) -> Mapping[str, Property]:
        return {
            "kept": Property(
                "boolean",
                unknown=True,
                help="it kept the time since it was set; false after its battery was gone",
            )
        }

    def driver(self, part: Part) -> Driver | None:
        at, chip = place(part), chip_of(part, ClockChip)
        return Driver(*chip.driver, at) if at and chip else None

    def simulation(self, part: Part) -> Simulation:
        chip = stand_in(part)
        if chip is None:
            return Simulation()
        feels = {"battery": WorldInput.number(90, 0, 100), "drift": WorldInput.number(20, -1000, 1000)}
        return Simulation(
            stimuli={word: OnBus(chip.line, chip.address, chip.name, word) for word in feels},
            inputs=feels,
            chips=(chip,),
        )

    def addresses(self, part: Part) -> tuple[int, ...]:
        return addresses(part)

    def supplied(self, part: Part) -> Supplied | None:
        return supplied(part)

    def loads(self, part: Part) -> Iterable[Load]:
        return drawing(part, "the clock chip", RAIL, 0.0003)


KIND = ClockKind()
