"""What a pin costs: the hazards of a use, in a documented order.

Each grade outweighs every lower one for up to twelve uses together, so the optimum has the fewest
boot hazards, among those the fewest glitches, and so on:

1. boot: what hangs there can keep the board from starting;
2. glitch: the output is on or flickers while the board starts;
3. console, USB, fitted parts that share the pin, and every other warning;
4. a pin that is read at reset, though nothing speaks against this part on it;
5. scarce: an analog or touch input that this part does not need as one, a note;
6. distance: places from the nearest ground or supply pin of the header.

A relay that is off on a pin that must be low at reset costs less than one on the console's pin.
"""

from __future__ import annotations

from zapato.boards.board import Board, Pin
from zapato.checks.compatibility import incompatibilities
from zapato.design.design import Design, PinUse

BOOT, GLITCH, CONSOLE, RESET, SCARCE = 10_000_000, 500_000, 20_000, 1_500, 50
"""Weights of the grades 1 to 5."""

LONGEST = 4
"""The distance counts up to this many places."""

_GRADES = {"pin-boot-level": BOOT, "pin-boot-glitch": GLITCH}


def cost(use: PinUse, design: Design) -> int | None:
    """The cost of this pin for this use, or None where a rule of severity error speaks against it."""
    total = 0
    for rule, problem in incompatibilities(use, design):
        if problem.severity == "error":
            return None
        total += _GRADES.get(rule.code, CONSOLE) if problem.severity == "warning" else SCARCE
    return total + plain_cost(use, design)


def plain_cost(use: PinUse, design: Design) -> int:
    """The cost that no finding speaks of: pins that are read at reset, scarce inputs, distance."""
    pin = use.pin
    read_at_reset = pin.boot is not None and pin.boot.when in ("start", "download")
    scarce = (bool(pin.adc) and use.need.use != "analog") + (
        pin.touch is not None and use.need.use != "touch"
    )
    return RESET * read_at_reset + SCARCE * scarce + (distance(design.board, pin) if design.board else 0)


def distance(board: Board, pin: Pin) -> int:
    """Places from the nearest ground or supply pin on the same row, up to LONGEST."""
    for row in board.headers.values():
        at = [n for n, place in enumerate(row) if place.gpio == pin.gpio]
        power = [n for n, place in enumerate(row) if place.gpio is None]
        if at and power:
            return min(LONGEST, min(abs(at[0] - n) for n in power))
    return LONGEST
