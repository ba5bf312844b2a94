"""The supply: what each rail carries, against what feeds it; how long a battery lasts.

A figure that is only guessed is no reason for a warning unless it is far off: a port that nobody measured may be asked for one
and a half of its 500 mA for a moment.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from graphlib import CycleError, TopologicalSorter
from typing import TYPE_CHECKING

from zapato.boards.board import Board
from zapato.design.design import Design, once
from zapato.design.feeds import board_input, supply_span
from zapato.design.feeds import main_supply as feeder
from zapato.lang.units import digits
from zapato.parts.electrical import INPUT, PIN, RAIL, Load
from zapato.parts.kind import Part
from zapato.record import record

if TYPE_CHECKING:
    from zapato.budgets.row import BudgetRow

USB, USB_SOURCE = 0.5, "USB 2.0 Specification, 7.2.1: a port gives 500 mA"
UNSTATED = 0.35
"""A that are taken for a chip whose data sheet's figure is not in the catalogue: more than any that is."""
UNSTATED_SOURCE = "not in the catalogue; 350 mA, more than any chip in it"
AWAKE = 0.1
"""A that are taken for its usual draw then."""
SWITCHED = 6.0
"""V from which on a board is taken to have a switching regulator before its 5 V."""
EFFICIENCY = 0.85
EXACT = 24
"""Relays that exclude others for which the most at once is worked out; of more, all are counted."""


@record(eq=False)
class Rail:
    """One rail.

    Attributes:
        name: "3V3", "5V" (what feeds the board) or a supply's.
        voltage: V.
        loads: what hangs on it: whose, and what.
        idle, typical, peak: A altogether.
        gives: A that it can give, None where nobody knows.
        stated: the device file says what it gives.
        source: where that is from.
        battery: Ah, 0 where it is none.
    """

    name: str
    voltage: float
    loads: tuple[tuple[str, Load], ...]
    idle: float
    typical: float
    peak: float
    gives: float | None
    stated: bool
    source: str
    battery: float = 0.0

    @property
    def hours(self) -> float | None:
        """How long the battery lasts at the typical current, h."""
        return self.battery / self.typical if self.battery and self.typical else None


@once
def loads(design: Design) -> list[tuple[Part, Load]]:
    """What every part draws."""
    return [(part, load) for part in design.parts.values() for load in part.kind.loads(part)]


@once
def rails(design: Design) -> list[Rail]:
    """The board's 3.3 V, what feeds the board, and every other supply; a converter's draw counts at what it converts from."""
    board = design.board
    if board is None:
        return []
    on_pins = [(part.name, load) for part, load in loads(design) if load.feed == PIN]
    inner = [(part.name, load) for part, load in loads(design) if load.feed == RAIL] + on_pins
    gives = board.rail_ma / 1000 or None
    apart = excluded(design)
    rails = [_rail(RAIL, board.chip.logic, inner, apart, gives, False, board.rail_note or "not stated")]
    main = feeder(design)
    if main is None:
        rails.append(_usb(design, board, inner))
    behind: dict[str, list[tuple[str, Load]]] = {}
    for supply in _converters_first(design):
        hang = [(part.name, load) for part, load in loads(design) if load.feed == supply.name]
        hang += behind.get(supply.name, [])
        if supply is main:
            hang += _board_draw(design, board, supply, inner)
        given = supply.values.get("current")
        source = "the device file" if given else "not stated"
        name, volts = (INPUT if supply is main else supply.name), supply.get("voltage", 5.0)
        rail = _rail(name, volts, hang, apart, given, bool(given), source, supply.get("battery", 0.0))
        rails.append(rail)
        origin = design.parts.get(supply.get("from", ""))
        if origin is not None and origin is not supply:
            behind.setdefault(origin.name, []).append((supply.name, _drawn(rail, supply, origin)))
    return rails


def _converters_first(design: Design) -> list[Part]:
    """The supplies, each converter before what it converts from; in the order of the file where they go in a circle."""
    supplies = {part.name: part for part in design.with_role("supply")}
    before = {
        name: [other.name for other in supplies.values() if other.get("from", "") == name]
        for name in supplies
    }
    try:
        return [supplies[name] for name in TopologicalSorter(before).static_order()]
    except CycleError:
        return [*supplies.values()]


def _drawn(rail: Rail, supply: Part, origin: Part) -> Load:
    """What a converter draws before it: the same power and its loss, of a battery at its empty end."""
    share = rail.voltage / (supply_span(origin)[0] * supply.get("efficiency", 85) / 100)
    currents = (rail.idle * share, rail.typical * share, rail.peak * share)
    return Load("the converter", origin.name, *currents, "the power behind it")


def _usb(design: Design, board: Board, inner: Sequence[tuple[str, Load]]) -> Rail:
    """The board on a USB port, where the file names no supply."""
    hang = [(part.name, load) for part, load in loads(design) if load.feed == INPUT]
    hang += [*inner, ("the chip", chip_load(design, board))]
    usb = board.input("USB") is not None
    source = USB_SOURCE if usb else "not stated"
    return _rail(INPUT, 5.0, hang, excluded(design), USB if usb else None, False, source)


def _board_draw(
    design: Design, board: Board, main: Part, inner: Sequence[tuple[str, Load]]
) -> list[tuple[str, Load]]:
    """What the board and its rails take of their supply, behind a switching regulator where one takes more than 6 V."""
    voltage, into = main.get("voltage", 5.0), board_input(design, main)
    switching = voltage > SWITCHED and (into is None or not into.rail)
    share = 5.0 / (voltage * EFFICIENCY) if switching else 1.0
    hang = [(part.name, load) for part, load in loads(design) if load.feed == INPUT]
    hang += [*inner, ("the chip", chip_load(design, board))]
    return [(name, _scaled(load, share)) for name, load in hang]


def _scaled(load: Load, share: float) -> Load:
    """What a load behind the regulator takes before it."""
    return replace(load, idle=load.idle * share, typical=load.typical * share, peak=load.peak * share)


def chip_load(design: Design, board: Board) -> Load:
    """What the chip itself takes: with a radio that sends, or without one."""
    draw = board.chip.draw
    source = draw.source or UNSTATED_SOURCE
    typical = draw.typical or AWAKE
    peak = (draw.peak or UNSTATED) if design.wifi is not None else typical
    return Load("the chip, sending at the peak", RAIL, draw.idle or typical, typical, peak, source)


def _rail(
    name: str,
    voltage: float,
    hang: Sequence[tuple[str, Load]],
    apart: Mapping[str, set[str]],
    gives: float | None,
    stated: bool,
    source: str,
    battery: float = 0.0,
) -> Rail:
    """The sums; of relays that exclude each other the most that can be on at once."""
    coils = {whose: load.peak for whose, load in hang if load.feed != PIN and whose in apart}
    left_out = sum(coils.values()) - heaviest(coils, apart)
    rows = [(load.idle, load.typical, load.peak) for _, load in hang]
    sums = [sum(row) for row in zip(*rows, strict=True)] or [0.0, 0.0, 0.0]
    return Rail(
        name, voltage, tuple(hang), sums[0], sums[1], sums[2] - left_out, gives, stated, source, battery
    )


def excluded(design: Design) -> dict[str, set[str]]:
    """Each relay that excludes others, with those that are never on while it is."""
    apart: dict[str, set[str]] = {}
    for part in design.with_role("relay"):
        for key, other in part.linked.items():
            if key.startswith("excludes."):
                apart.setdefault(part.name, set()).add(other.name)
                apart.setdefault(other.name, set()).add(part.name)
    return apart


def heaviest(weights: Mapping[str, float], apart: Mapping[str, set[str]]) -> float:
    """The most that these can weigh together where some are never there at the same time."""
    if not weights:
        return 0.0
    if len(weights) > EXACT:
        return sum(weights.values())
    name = max(weights, key=lambda candidate: (len(apart.get(candidate, set()) & weights.keys()), candidate))
    rest = {key: value for key, value in weights.items() if key != name}
    without = {key: value for key, value in rest.items() if key not in apart.get(name, set())}
    if len(without) == len(rest):
        return weights[name] + heaviest(rest, apart)
    return max(weights[name] + heaviest(without, apart), heaviest(rest, apart))


def rows(design: Design) -> Iterator[BudgetRow]:
    """The figures of every rail."""
    from zapato.budgets.row import row

    for rail in rails(design):
        for word in ("idle", "typical", "peak"):
            drawn = ", ".join(
                f"{name} {digits(getattr(load, word) * 1000)} mA"
                for name, load in rail.loads
                if getattr(load, word) >= 5e-4
            )
            formula = f"sum of its loads: {drawn}" if drawn else "nothing draws half a milliampere"
            value, limit = getattr(rail, word), rail.gives if word == "peak" else None
            yield row("supply", rail.name, word, value, "A", limit, formula=formula, source=rail.source)
        if rail.hours is not None:
            formula = f"{rail.battery:g} Ah / {rail.typical * 1000:.0f} mA"
            yield row(
                "supply", rail.name, "battery", rail.hours, "h", formula=formula, source="typical current"
            )
