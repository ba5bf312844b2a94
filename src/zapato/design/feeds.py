"""What voltage stands where: at the board's inputs, on its rails, behind every supply, and at each part."""

from __future__ import annotations

from math import isclose

from zapato.boards.board import SupplyInput
from zapato.design.design import Design, PinUse
from zapato.parts.electrical import INPUT, PIN, RAIL
from zapato.parts.kind import Part

Span = tuple[float, float]
"""V, least and most."""

CELLS = (
    (3.7, 3.0, 4.2, 6),
    (3.6, 3.0, 4.2, 6),
    (3.2, 2.5, 3.65, 8),
    (12.0, 10.5, 14.4, 2),
    (1.5, 0.9, 1.6, 6),
)
"""Usual cells: nominal V, empty, full, and how many of them a battery has at the most: lithium ion, lithium iron phosphate, lead of
six cells, alkaline. What a battery's own sheet says stands in its `range`."""


def main_supply(design: Design) -> Part | None:
    """The supply that feeds the board, where the device file has one."""
    return next((part for part in design.with_role("supply") if part.get("board", False)), None)


def supply_span(supply: Part) -> Span:
    """What a supply gives: its voltage, a battery's from empty to full."""
    volts = supply.get("voltage", 5.0)
    stated = supply.values.get("range")
    if stated:
        return stated
    if supply.get("battery", 0.0):
        for cell, empty, full, most in CELLS:
            count = round(volts / cell)
            if 1 <= count <= most and isclose(volts, cell * count, rel_tol=0.01):
                return (empty * count, full * count)
    return (volts, volts)


def board_input(design: Design, supply: Part) -> SupplyInput | None:
    """The input of the board that a supply suits, or that its `input` names; None where there is none."""
    board = design.board
    if board is None:
        return None
    named = supply.get("input", "")
    if named:
        return board.input(named)
    pins_first = sorted(board.inputs, key=lambda supply_input: supply_input.name == "USB")
    volts = supply.get("voltage", 5.0)
    for span in (supply_span(supply), (volts, volts)):
        for supply_input in pins_first:
            if supply_input.takes(*span):
                return supply_input
    return None


def feed_span(design: Design, feed: str) -> Span | None:
    """The voltage of a rail or supply; None where nobody can know it."""
    board = design.board
    if feed in design.parts:
        return supply_span(design.parts[feed]) if design.parts[feed].kind.has_role("supply") else None
    if board is None or feed not in (RAIL, INPUT):
        return None
    main = main_supply(design)
    into = board_input(design, main) if main else None
    if main and into and into.rail == feed:
        return supply_span(main)
    if feed == RAIL:
        return (board.chip.logic, board.chip.logic)
    return (5.0, 5.0) if gives_5v(design) else None


def feed_volts(design: Design, feed: str) -> float | None:
    """The nominal voltage of a rail or supply; None where nobody can know it."""
    span = feed_span(design, feed)
    if span is None:
        return None
    if feed in design.parts:
        return design.parts[feed].get("voltage", 5.0)
    main = main_supply(design)
    return main.get("voltage", 5.0) if main and span == supply_span(main) else span[1]


def part_is_compatible(design: Design, part: Part) -> bool | None:
    """Whether what a part hangs on does it no harm; None where nobody can know it."""
    takes, span = part.kind.supplied(part), part_span(design, part)
    return None if takes is None or span is None else span[1] <= takes.high + 0.005


def lifted(design: Design, part: Part) -> float:
    """The high level on a data line that goes up to its part's own supply, V; 0 where it does not."""
    takes, span = part.kind.supplied(part), part_span(design, part)
    if takes is None or span is None or not takes.lifts or part.get("shifted", False):
        return 0.0
    return span[1]


def is_data_line(use: PinUse) -> bool:
    """Whether a part drives this line, so that its level may be the part's supply."""
    return use.need.use in ("input", "line") and use.need.field == "pin"


def wanted_high(design: Design, part: Part) -> float:
    """V from which on a part's inputs read high, by its supply; 0 where nobody states it, or a level shifter stands between."""
    takes, span = part.kind.supplied(part), part_span(design, part)
    if takes is None or span is None or part.get("shifted", False):
        return 0.0
    return takes.reads_high * span[1]


def gives_5v(design: Design) -> bool:
    """Whether 5 V stand at one of the board's pins: it is fed with them, or makes them itself."""
    board = design.board
    if board is None:
        return False
    main = main_supply(design)
    into = board_input(design, main) if main else None
    if into and into.rail == RAIL:
        return False
    names = {supply_input.name.upper() for supply_input in board.inputs if supply_input.rail == INPUT} | {
        "5V",
        "VBUS",
    }
    return bool(names & board.brings_out)


def part_feed(part: Part) -> str:
    """The rail or supply that a part hangs on; "" where it draws nothing but through its pin."""
    return next((load.feed for load in part.kind.loads(part) if load.feed and load.feed != PIN), "")


def part_span(design: Design, part: Part) -> Span | None:
    """The voltage at a part's supply; None where it has none, or nobody can know it."""
    feed = part_feed(part)
    return feed_span(design, feed) if feed else None
