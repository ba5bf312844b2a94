"""A clock chip with a battery: the time of day holds without a network."""

from __future__ import annotations

from collections.abc import Mapping

from zapato.lang.fields import REQUIRED, choice, names, whole
from zapato.parts.electrical import RAIL, drawing, fed
from zapato.parts.model import Bench, Driver, Kind, Part, Property

ADDRESSES: Mapping[str, tuple[int, ...]] = {"ds3231": (0x68,)}


def _driver(part: Part) -> Driver | None:
    if part.get("chip", "") not in ADDRESSES or "bus" not in part.linked:
        return None
    return Driver("ds3231", "Ds3231", (part.linked["bus"].name, _address(part)))


def _address(part: Part) -> int:
    return part.get("address", 0) or ADDRESSES[part.get("chip", "ds3231")][0]


def _bench(part: Part) -> Bench:
    bus = part.linked["bus"].pins if "bus" in part.linked else {}
    if "sda" not in bus or part.get("chip", "") not in ADDRESSES:
        return Bench()
    at: list[object] = ["i2c", bus["sda"].gpio, _address(part), part.get("chip", "")]
    return Bench(
        sets={"battery": [*at, "battery"], "drift": [*at, "drift"]},
        chips=([bus["sda"].gpio, _address(part), part.get("chip", ""), {}, None],),
    )


KIND = Kind(
    name="clock",
    help="a clock chip with a battery, so that times hold without a network; the network sets it",
    fields=(
        *fed('"3V3"'),
        choice("chip", "the clock's chip", *ADDRESSES),
        names("bus", "the I2C bus it hangs on", REQUIRED, role="bus"),
        whole("address", "its address on the bus", None, least=1, most=127),
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
    addresses=lambda part: ADDRESSES.get(part.get("chip", ""), ()),
    loads=drawing("the clock chip", RAIL, 0.0003),
    wiring=(
        "On the bus like any chip, with a coin cell of its own. Breakouts that charge a rechargeable cell must not get a primary one: "
        "take the diode or its resistor off."
    ),
    example='[time]\nzone = "Europe/Vienna"\n\n[i2c.main]\nsda = 21\nscl = 22\n\n[clock.wall]\nchip = "ds3231"\nbus = "main"',
)
