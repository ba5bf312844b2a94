"""A clock chip with a battery: the time of day holds without a network."""

from __future__ import annotations

from zapato.parts.bus_chip import Chips, addresses, chip_fields, place, stand_in
from zapato.parts.electrical import RAIL, drawing, fed, supplied
from zapato.parts.model import Bench, Driver, Felt, Kind, Part, Property

ADDRESSES: Chips = {"ds3231": (0x68,)}


def _driver(part: Part) -> Driver | None:
    at = place(part, ADDRESSES)
    return Driver("ds3231", "Ds3231", at, ("dates",)) if at else None


def _bench(part: Part) -> Bench:
    chip = stand_in(part, ADDRESSES)
    if chip is None:
        return Bench()
    feels = {"battery": Felt.number(90, 0, 100), "drift": Felt.number(20, -1000, 1000)}
    return Bench(sets={word: ["i2c", *chip[:3], word] for word in feels}, feels=feels, chips=(chip,))


KIND = Kind(
    name="clock",
    help="a clock chip with a battery, so that times hold without a network; the network sets it",
    fields=(
        *fed('"3V3"'),
        *chip_fields("clock", ADDRESSES),
    ),
    properties=lambda part: {
        "kept": Property(
            "boolean",
            unknown=True,
            help="it kept the time since it was set; false after its battery was gone",
        )
    },
    driver=_driver,
    bench=_bench,
    addresses=addresses(ADDRESSES),
    tells_time=True,
    supplied=supplied(
        "ds3231",
        2.3,
        5.5,
        "DS3231 datasheet, Recommended Operating Conditions: VCC 2.3 V to 5.5 V, input high from 0.7 VCC",
        0.7,
    ),
    loads=drawing("the clock chip", RAIL, 0.0003),
    wiring=(
        "On the bus like any chip, with a coin cell of its own. Breakouts that charge a rechargeable cell must not get a primary one: "
        "take the diode or its resistor off."
    ),
    example='[time]\nzone = "Europe/Vienna"\n\n[i2c.main]\nsda = 21\nscl = 22\n\n[clock.wall]\nchip = "ds3231"\nbus = "main"',
)
