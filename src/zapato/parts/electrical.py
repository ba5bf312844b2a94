"""What parts draw, and where from: the facts behind the budgets, with stated figures where the device file has none."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from zapato.lang.fields import Field, measured, text

if TYPE_CHECKING:
    from zapato.parts.model import Part

RAIL, INPUT, PIN = "3V3", "5V", "pin"
"""Where a part may hang without a supply of its own: the board's 3.3 V, what feeds the board, the pin itself."""


@dataclass(eq=False, repr=False)
class Load:
    """A current that a part draws.

    Attributes:
        what: in words; feed: "3V3", "5V", "pin", or the name of a supply.
        idle, typical, peak: A.
        field: for a current through a pin, the key that names the pin.
        source: where the figure is from: the device file, a datasheet, or the usual figure that is taken.
    """

    what: str
    feed: str
    idle: float
    typical: float
    peak: float
    source: str
    field: str = ""


def fed(feed: str, help: str = "what it draws at the most") -> tuple[Field, Field]:
    """The fields of a part that draws something: how much, and where from."""
    return (
        measured("current", help, "A", None, most=200),
        text(
            "fed_from",
            f'the rail or supply that it hangs on: "3V3", "5V", or the name of a supply; {feed} where absent',
        ),
    )


OWN = "the device file"
COIL, DRIVER = 0.072, 0.005
"""A: the coil of a 5 V relay of 0.36 W; the input of a relay board (an optocoupler's LED behind 1 kohm, or a transistor's base)."""


def usual(figure: str) -> str:
    """The source of a figure that is taken because nobody knows better."""
    return f"{figure}, taken where the device file says nothing"


def coil_source(part: Part) -> str:
    """Where the figure for a relay's coil is from."""
    return OWN if part.values.get("coil") else usual("the coil of a 5 V relay of 0.36 W")


def drawing(what: str, feed: str, taken: float) -> Callable[[Part], Iterable[Load]]:
    """The loads of a part that draws so many A from this feed, where its table says nothing else."""

    def loads(part: Part) -> Iterable[Load]:
        given = part.values.get("current")
        most = taken if given is None else given
        source = OWN if given is not None else usual(f"{taken * 1000:g} mA")
        yield Load(what, part.get("fed_from", feed), 0, most / 2, most, source)

    return loads


@dataclass(eq=False, repr=False)
class Passive:
    """A small part that is wired beside a part.

    Attributes:
        what: "resistor", "capacitor", "gate", "diode"; value: as it is bought: "330 ohm", "74HCT125".
        where: between what, in words; field: the key whose pin's wire it stands in, or "".
        why: what it is for.
    """

    what: str
    value: str
    where: str
    why: str
    field: str = ""


def ohms(value: float) -> str:
    """A resistance as people write it: 4700 -> "4.7 kohm"."""
    if value >= 1e6:
        return f"{value / 1e6:g} Mohm"
    return f"{value / 1e3:g} kohm" if value >= 1e3 else f"{value:g} ohm"
