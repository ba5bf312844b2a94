"""What parts draw, and where from: the facts behind the budgets, with stated figures where the device file has none.

They stand in the kinds: what a part draws (`loads`), what stands beside it, what its terminals are called. Budgets, findings,
wiring sheet and shopping list read the same facts.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from zapato.lang.fields import Field, boolean, measured, span, text
from zapato.record import record

if TYPE_CHECKING:
    from zapato.parts.kind import Part

RAIL, INPUT, PIN, GROUND = "3V3", "5V", "pin", "GND"
"""Where a part may hang without a supply of its own: the board's 3.3 V, what feeds the board, the pin itself."""


@record(eq=False)
class Load:
    """A current that a part draws.

    Attributes:
        what: in words.
        feed: "3V3", "5V", "pin", or the name of a supply.
        idle: A while it does nothing.
        typical: A as a rule.
        peak: A at the most.
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


@record(eq=False)
class Supplied:
    """What a part may be supplied with.

    Attributes:
        what: the chip or part, in words.
        low: V at its supply, the least.
        high: V at its supply, the most.
        source: the datasheet's section.
        reads_high: the share of its supply from which its inputs read high; 0 where not stated.
        lifts: the high level on its data line is its own supply.
    """

    what: str
    low: float
    high: float
    source: str
    reads_high: float = 0.0
    lifts: bool = False


def line_level() -> Field:
    """The field of a bus for what its lines are pulled up to."""
    return measured(
        "level",
        "what the pull-ups of its lines lead to, where that is not 3.3 V",
        "V",
        None,
        least=1,
        most=30,
    )


def fed(feed: str, help: str = "its largest current") -> tuple[Field, ...]:
    """The fields of a part that draws something: how much, where from, and what its module takes."""
    return (
        measured("current", help, "A", None, most=200),
        text(
            "fed_from",
            f'the rail or supply that feeds it: "3V3", "5V", or the name of a supply; {feed} where absent',
        ),
        span(
            "module",
            "what its module takes as supply, where it has a regulator and level shifters of its own",
            "V",
        ),
        boolean("shifted", "a level shifter stands between its data lines and the board"),
    )


def supplied_with(
    part: Part, what: str, low: float, high: float, source: str, reads_high: float = 0.0, lifts: bool = False
) -> Supplied | None:
    """The supply of a part that takes so many volts; its module's, where the file states that."""
    return by_module(part, Supplied(what, low, high, source, reads_high, lifts))


def by_module(part: Part, own: Supplied | None) -> Supplied | None:
    """What the module on which a chip sits takes, where the file states it."""
    stated = part.values.get("module")
    if not stated:
        return own
    low, high = stated
    return Supplied(f"the module of {part.name}", low, high, OWN)


OWN = "the device file"
COIL, DRIVER = 0.072, 0.004
"""A: the coil of a 5 V relay of 0.36 W; the input of a relay board (an optocoupler's LED on 5 V behind 1 kohm, or a transistor's base)."""


def usual(figure: str) -> str:
    """The source of a figure that is taken because nobody knows better."""
    return f"{figure}, taken where the device file says nothing"


def coil_source(part: Part) -> str:
    """Where the figure for a relay's coil is from."""
    return OWN if part.values.get("coil") else usual("the coil of a 5 V relay of 0.36 W")


def drawing(part: Part, what: str, feed: str, taken: float) -> Iterable[Load]:
    """The load of a part that draws so many A from this feed, where its table says nothing else."""
    given = part.values.get("current")
    most = taken if given is None else given
    source = OWN if given is not None else usual(f"{taken * 1000:g} mA")
    yield Load(what, part.get("fed_from", feed), 0, most / 2, most, source)


@record(eq=False)
class Passive:
    """A small part that is wired beside a part.

    Attributes:
        what: "resistor", "capacitor", "gate", "diode".
        value: as it is bought: "330 ohm", "74HCT125".
        where: between what, in words.
        field: the key of the pin whose line it is at, or "" for the part's plus.
        why: what it is for.
        across: where it leads to from that line: "3V3", "GND", "-" of the part; "" where it stands in the line.
    """

    what: str
    value: str
    where: str
    why: str
    field: str = ""
    across: str = ""

    @property
    def series(self) -> bool:
        """Whether it stands in the line."""
        return not self.across and bool(self.field)


def ohms(value: float) -> str:
    """A resistance as people write it: 4700 -> "4.7 kohm"."""
    if value >= 1e6:
        return f"{value / 1e6:g} Mohm"
    return f"{value / 1e3:g} kohm" if value >= 1e3 else f"{value:g} ohm"


def coil_supplied(part: Part) -> Supplied | None:
    """What a coil takes: it pulls in from 75 % of its voltage on, and bears some 120 %; None where its voltage is not said."""
    volts = part.values.get("coil_voltage")
    if volts is None or part.get("fed_from", "") == PIN:
        return None
    return Supplied(
        f"a coil of {volts:g} V",
        0.75 * volts,
        1.2 * volts,
        "IEC 61810-1, 5.2 and 5.3: the usual class operates from 80 % to 110 %; a little more is left to both ends",
    )
