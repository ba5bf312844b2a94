"""What to buy for a design: its parts, what stands beside them, and the wires of strips."""

from __future__ import annotations

from collections.abc import Iterator
from math import ceil

from zapato.boards.board import Board
from zapato.budgets.analog import analog
from zapato.budgets.strips import strips
from zapato.design.design import Design
from zapato.parts.electrical import ohms
from zapato.parts.kind import Part
from zapato.wiring.lines import rs485_items
from zapato.wiring.sheet import Item

GATES = 4
"""Gates in one case (74HCT125)."""


def items(design: Design, board: Board) -> Iterator[Item]:
    """Each value once, with how many and for whom."""
    from zapato.wiring.build import on_board

    items_by_use: dict[tuple[str, str], list[str]] = {}

    def want(what: str, value: str, whose: str) -> None:
        items_by_use.setdefault((what, value), []).append(whose)

    for part in design.parts.values():
        if on_board(board, part):
            continue
        for what, value in _own(design, part):
            want(what, value, part.name)
        for passive in part.kind.beside(part, board.chip.logic):
            want(passive.what, passive.value, part.name)
        for what, value in _lines(board, part):
            want(what, value, part.name)
    for budget in analog(design):
        for ohm in budget.divider or ():
            want("resistor", ohms(ohm), f"{budget.part.name} (divider)")
    for strip in strips(design):
        if strip.wire:
            want("wire, two cores", f"{strip.wire:g} mm2", strip.part.name)
    for (what, value), names in sorted(items_by_use.items()):
        count = ceil(len(names) / GATES) if what == "gate" else len(names)
        yield Item(what, value, count, ", ".join(dict.fromkeys(names)))


def _own(design: Design, part: Part) -> Iterator[tuple[str, str]]:
    """The part itself, where it is a thing that is bought."""
    kind = part.kind
    if kind.has_role("supply"):
        amps, origin = part.get("current", 0.0), part.get("from", "")
        what = "converter" if origin else "battery" if part.get("battery", 0.0) else "supply"
        into = f"{design.parts[origin].get('voltage', 5.0):g} V to " if origin in design.parts else ""
        yield what, f"{into}{part.get('voltage', 5.0):g} V" + (f", {amps:g} A" if amps else "")
    elif kind.thing and (part.pins or part.linked.get("bus")):
        value = str(part.values.get("chip") or "")
        if part.values.get("count"):
            value = f"{value}, {part.get('count', 1)} LEDs".removeprefix(", ")
        yield kind.name, value


def _lines(board: Board, part: Part) -> Iterator[tuple[str, str]]:
    if part.has_role("uart") and ("enable" in part.pins or part.get("rs485", False)):
        yield from rs485_items(part)
    elif part.get("shifted", False) or (
        part.get("level", 0.0) > board.chip.input_most
        and not part.has_role("strip")
        and not _divided(board, part)
    ):
        yield "level shifter", "3.3 V to 5 V, both ways"


def _divided(board: Board, part: Part) -> bool:
    return any(passive.series for passive in part.kind.beside(part, board.chip.logic))
