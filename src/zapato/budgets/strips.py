"""Addressable strips: time for a frame, watts, the voltage along the strip, where to feed it and through which wire."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from math import ceil, floor, sqrt

from zapato.budgets.row import BudgetRow, row
from zapato.design.design import Design, once
from zapato.parts.kind import Part
from zapato.parts.strip.part import DARK, WHITE, order, runs_on
from zapato.record import record

BIT, GAP = 1.25e-6, 300e-6
"""s for one bit at 800 kHz, and the pause that ends a frame (WS2812B datasheet, data transfer time; more than 280 us on current ones)."""
COLOUR = 8 * BIT
"""s for one colour of one LED: an LED of three takes 30 us, one with white 40 us."""
SMOOTH = 60.0
"""Frames a second that are smooth for everybody; the device itself draws 25, of long strips fewer (own_pace)."""
OWN_PACE = 25.0
DROP = 0.10
"""The share of its voltage that a strip may lose before its end looks different."""
RAIL_OHM = 0.06
"""ohm a metre of one of a strip's two copper rails: 4 mm wide, 70 um thick."""
DENSE = 60
"""LEDs a metre that are taken where no length is given."""
COPPER = 0.0175
"""ohm mm2 / m of copper at 20 °C."""
CABLES = (0.5, 0.75, 1.0, 1.5, 2.5, 4.0, 6.0, 10.0, 16.0)
"""mm2: cross-sections as they are sold (IEC 60228)."""
LEAD_DROP = 0.03
"""The share of the voltage that the wires to a strip may lose."""
NEEDS = 3.7
"""V that the chip of an LED needs at the least, for strips of 5 V (WS2812B-V5 datasheet, supply voltage)."""


@record(frozen=True)
class StripBudget:
    """One strip.

    Attributes:
        part: which.
        frame: s for one frame on its pin.
        frames: a second at the most.
        pins: over how many it would have to be split for SMOOTH frames a second.
        white, limited: W at full white, and at its brightness limit.
        amps: A at that limit.
        volts: along the strip at that limit, fed at its beginning, one for each LED.
        feeds: places to feed it so that nothing loses more than DROP, both ends among them (1: its beginning will do).
        wire: mm2 of the wires from the supply; 0 where none of CABLES is thick enough.
    """

    part: Part
    frame: float
    frames: float
    sent: float
    pins: int
    white: float
    limited: float
    amps: float
    volts: tuple[float, ...]
    supply: float
    feeds: int
    wire: float

    @property
    def lost(self) -> float:
        """The share of the voltage that is lost where least of it is left."""
        return 1 - min(self.volts) / self.supply


def frame_time(count: int, colours: int = 3) -> float:
    """s that a frame of so many LEDs takes on one pin."""
    return count * colours * COLOUR + GAP


def own_pace(count: int) -> float:
    """Frames a second that an effect of the device sends (runtime/strip.py): a frame may take a quarter of the time."""
    return 1 / max(1 / OWN_PACE, count // 8 / 1000)


def split(count: int, frames: float = SMOOTH, colours: int = 3) -> int:
    """Pins over which so many LEDs must be split for so many frames a second."""
    most = floor((1 / frames - GAP) / (colours * COLOUR))
    return ceil(count / most)


def ladder(
    volts: float,
    currents: Sequence[float],
    ohm: float,
    lead: float = 0.0,
    *,
    ends: int = 1,
    fed: Sequence[int] = (),
) -> list[float]:
    """Voltages along a chain of current sinks, V, from the first to the last.

    `ohm` is the resistance between two of them, both rails together; `lead` that before the first, and behind the last
    where `ends` is 2 and it is fed there, too; `fed` are the places where it is fed, in place of its ends.
    Solves G v = i for the nodes (Kirchhoff's current law). G is tridiagonal, symmetric and diagonally dominant, so
    elimination without pivoting is stable; by hand, since a `check` with numpy and SciPy takes six times as long.
    """
    count = len(currents)
    inner, outer = 1 / ohm, 1 / max(lead, 1e-6)
    diagonal = [inner * ((at > 0) + (at < count - 1)) for at in range(count)]
    given = [-current for current in currents]
    for at in fed or (0, count - 1)[:ends]:
        diagonal[at] += outer
        given[at] += outer * volts
    for at in range(1, count):
        share = inner / diagonal[at - 1]
        diagonal[at] -= share * inner
        given[at] += share * given[at - 1]
    nodes = [0.0] * count
    following = 0.0
    for at in reversed(range(count)):
        nodes[at] = following = (given[at] + inner * following) / diagonal[at]
    return nodes


@once
def strips(design: Design) -> list[StripBudget]:
    """Every strip of a design."""
    return [_budget(part) for part in design.with_role("strip") if part.values.get("count")]


def _budget(part: Part) -> StripBudget:
    count, supply, limit = part.get("count", 1), runs_on(part), part.get("limit", 100) / 100
    led_current = part.get("current", WHITE)
    taken = max(led_current * limit, DARK)
    length = part.get("length", count / DENSE)
    amps = taken * count
    wire = next((a for a in CABLES if _lead(part, a) * amps <= LEAD_DROP * supply), 0.0)
    lead = _lead(part, wire or CABLES[-1])
    ohm = max(2 * RAIL_OHM * length / count, 1e-6)
    volts = ladder(supply, [taken] * count, ohm, lead, fed=fed_at(count, part.get("feeds", 1)))
    colours = len(order(part))
    frame = frame_time(count, colours)
    return StripBudget(
        part,
        frame,
        1 / frame,
        own_pace(count),
        split(count, colours=colours),
        led_current * count * supply,
        amps * supply,
        amps,
        tuple(volts),
        supply,
        _feeds(length, taken * count / length, supply),
        wire,
    )


def fed_at(count: int, feeds: int) -> list[int]:
    """The LEDs at which a strip is fed, evenly: its beginning, or both ends and what lies between."""
    return [0] if feeds < 2 else sorted({round(at * (count - 1) / (feeds - 1)) for at in range(feeds)})


def _lead(part: Part, wire: float) -> float:
    """ohm of the two wires from the supply."""
    return 2 * COPPER * part.get("cable", 0.5) / wire


def _feeds(length: float, amps: float, supply: float) -> int:
    """Places to feed a strip of so many A a metre: one end loses r i l^2 / 2, a stretch between two r i l^2 / 8."""
    lost = 2 * RAIL_OHM * amps
    if lost * length**2 / 2 <= DROP * supply:
        return 1
    return ceil(length / sqrt(8 * DROP * supply / lost)) + 1


def rows(design: Design) -> Iterator[BudgetRow]:
    """The figures of every strip."""
    for strip in strips(design):
        yield from _frames(strip)
        yield from _supply(strip)


def _frames(budget: StripBudget) -> Iterator[BudgetRow]:
    """How long a frame takes, and how many go out."""
    name, count = budget.part.name, budget.part.get("count", 1)
    timed = "WS2812B datasheet, data transfer time"
    yield row(
        "strips",
        name,
        "a frame",
        budget.frame,
        "s",
        1 / OWN_PACE,
        formula=f"{count} x {10 * len(order(budget.part))} us + 300 us",
        source=timed,
    )
    yield row(
        "strips",
        name,
        "frames at the most",
        budget.frames,
        "1/s",
        formula="1 / the time for a frame",
        source=timed,
    )
    yield row(
        "strips",
        name,
        "frames an effect sends",
        budget.sent,
        "1/s",
        formula="1 / (40 ms, or 1 ms for 8 LEDs)",
        source="runtime/strip.py",
    )
    yield row(
        "strips",
        name,
        f"pins for {SMOOTH:g} frames/s",
        budget.pins,
        "",
        formula="LEDs / LEDs that fit into a frame",
        source=timed,
    )


def _supply(budget: StripBudget) -> Iterator[BudgetRow]:
    """What it takes, and how it is to be fed."""
    name = budget.part.name
    current = next(iter(budget.part.kind.loads(budget.part))).source
    yield row("strips", name, "full white", budget.white, "W", formula="LEDs x A x V", source=current)
    yield row(
        "strips", name, "at its limit", budget.limited, "W", formula="full white x limit", source=current
    )
    yield row(
        "strips", name, "lost at the worst place", budget.lost, "/", DROP,
        formula="a ladder of one current sink an LED, solved by Kirchhoff's law",
        source=f"{RAIL_OHM} ohm a metre and rail; wires of {budget.wire or CABLES[-1]:g} mm2",
    )  # fmt: skip
    yield row(
        "strips",
        name,
        "places to feed it",
        budget.feeds,
        "",
        formula="r i l^2 / 8 between two",
        source=f"at most {DROP:.0%} lost",
    )
    yield row(
        "strips",
        name,
        "wires from the supply",
        budget.wire,
        "mm2",
        formula=f"2 rho l I / A <= {LEAD_DROP:.0%}",
        source="IEC 60228",
    )
