"""What feeds the board, the converters and grounds of the other supplies, and a serial adapter where the board has no USB."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from zapato.boards.board import Board
from zapato.design.design import Design
from zapato.design.feeds import board_input, gives_5v, main_supply, supply_span
from zapato.parts.electrical import INPUT, RAIL
from zapato.wiring.sheet import GROUND, Wire

NOMINAL = 230.0
"""V of the mains (IEC 60038)."""


def board_wires(design: Design, board: Board, leave_out: Callable[[str], None]) -> Iterator[Wire]:
    """Everything that is there whatever the parts are."""
    yield from _main(design, board, leave_out)
    yield from _supplies(design)
    if board.usb.startswith("none"):
        yield from _adapter(board)


def _main(design: Design, board: Board, leave_out: Callable[[str], None]) -> Iterator[Wire]:
    main = main_supply(design)
    if main is None:
        if not board.inputs:
            return
        own = board.input("USB") or board.inputs[0]
        if own.name == "USB":
            yield Wire("USB port", "board USB", "supply", "board", 5.0, note="the board's cable")
        elif own.name == "mains":
            yield Wire("mains", "board mains", "mains", "board", NOMINAL, note=own.note, area=1.5)
        else:
            leave_out(f"board {own.name}: the file names no supply; it takes {own.low:g} V to {own.high:g} V")
        return
    volts, into = main.get("voltage", 5.0), board_input(design, main)
    if into is None or not into.takes(volts, supply_span(main)[1]):
        leave_out(f"{main.name} + to the board: {volts:g} V does not suit any of its inputs (volt-supply)")
        return
    yield Wire(f"{main.name} +", f"board {into.name}", "supply", "board", volts, note=into.note, area=0.5)
    yield Wire(f"{main.name} -", f"board {GROUND}", "ground", "board", 0.0, area=0.5)


def _supplies(design: Design) -> Iterator[Wire]:
    """Converters between their two sides; grounds that are joined."""
    main = main_supply(design)
    for part in design.with_role("supply"):
        origin = design.parts.get(part.get("from", ""))
        if origin is not None and origin is not part:
            volts = origin.get("voltage", 5.0)
            yield Wire(f"{origin.name} +", f"{part.name} input +", "supply", part.name, volts, area=0.75)
            yield Wire(f"{origin.name} -", f"{part.name} input -", "ground", part.name, 0.0, area=0.75)
        if part is not main:
            yield Wire(f"{part.name} -", f"board {GROUND}", "ground", "board", 0.0, note="grounds joined")


def _adapter(board: Board) -> Iterator[Wire]:
    """The serial adapter that brings the program onto a board without USB."""
    pins = board.chip.pins.values()
    tx, rx = (next((pin for pin in pins if pin.console == line), None) for line in ("tx", "rx"))
    if not tx or not rx:
        return
    label = board.label_of
    for line, other, pin in (("TX", "RX", rx), ("RX", "TX", tx)):
        end = f"board {label.get(pin.gpio) or pin.name}"
        note = f"crossed: {line} to {other}; 3.3 V levels"
        yield Wire(f"adapter {line}", end, "serial", "board", board.chip.logic, note=note)
    yield Wire("adapter GND", f"board {GROUND}", "ground", "board", 0.0)
    rail = next((supply_input for supply_input in board.inputs if supply_input.rail == RAIL), None)
    if main_is_mains(board):
        name = rail.name if rail else next((x for x in ("3V3", "VCC") if x in board.brings_out), "")
        if name:
            note = "only while the mains is off"
            yield Wire("adapter 3V3", f"board {name}", "supply", "board", board.chip.logic, note=note)


def main_is_mains(board: Board) -> bool:
    """Whether the board hangs on the mains in use, so that the adapter feeds it while it is open."""
    return any(supply_input.name == "mains" for supply_input in board.inputs)


def fed_by(design: Design, feed: str) -> str:
    """Where a part's plus is joined: a supply, or the pin of the board that carries the rail; "" where there is none."""
    board = design.board
    if board is None:
        return ""
    if feed in design.parts:
        return f"{feed} +"
    if feed == RAIL:
        own = next((supply_input.name for supply_input in board.inputs if supply_input.rail == RAIL), RAIL)
        return f"board {own if own.upper() in board.brings_out else RAIL}"
    if feed != INPUT:
        return ""
    if gives_5v(design):
        names = [
            supply_input.name
            for supply_input in board.inputs
            if supply_input.rail == INPUT and supply_input.name.upper() in board.brings_out
        ]
        names += [label for label in ("5V", "VBUS") if label in board.brings_out]
        return f"board {names[0]}" if names else ""
    main = main_supply(design)
    return f"{main.name} +" if main and 4.5 <= main.get("voltage", 5.0) <= 5.5 else ""
