"""Choosing pins: an exact optimum over pins and bus controllers.

Each part's pin marked "auto" gets one pin, each pin goes to one part; every rule of severity error
is a constraint, every lower one a cost (see `zapato.fitting.cost`). Without buses of fixed routing and
without shared modulation outputs this is an assignment problem (Jonker-Volgenant, exact); with
them it is a mixed-integer program (HiGHS, exact, gap 0).
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zapato.boards.board import Board, Pin
from zapato.checks.compatibility import incompatibilities
from zapato.checks.rule import Incompatibility
from zapato.design import Design, PinUse, resolve
from zapato.fitting.cost import cost
from zapato.fitting.explain import Conflict, conflict
from zapato.record import record

if TYPE_CHECKING:
    import pandas


@record(frozen=True)
class Placement:
    """One chosen pin: for which part and key, at what cost, with what still speaks against it."""

    part: str
    field: str
    pin: Pin
    written: int | str
    cost: int
    minds: tuple[Incompatibility, ...] = ()


@record(frozen=True)
class Fit:
    """The result of a fit.

    Attributes:
        design: what was fitted.
        placements: the chosen pins, in the order of the file; empty where it cannot be.
        conflict: the smallest set of parts that cannot be placed together, or None.
    """

    design: Design
    placements: tuple[Placement, ...]
    conflict: Conflict | None = None

    @property
    def ok(self) -> bool:
        """True where every pin could be chosen."""
        return self.conflict is None

    @property
    def cost(self) -> int:
        """The cost of all placements together."""
        return sum(placement.cost for placement in self.placements)

    @property
    def frame(self) -> pandas.DataFrame:
        """The placements as a table."""
        import pandas

        rows = [(p.part, p.field, p.pin.name, p.written, p.cost) for p in self.placements]
        return pandas.DataFrame(rows, columns=["part", "field", "pin", "written", "cost"])


def fit(what: Design | Path | str) -> Fit:
    """Choose a pin for everything marked "auto". Fixed pins stay. Raises Unreadable.

    Examples:
        >>> import zapato
        >>> fitted = zapato.fit("devices/boot-dryer.toml")
        >>> fitted.ok, fitted.conflict
        (True, None)
    """
    design = what if isinstance(what, Design) else resolve(Path(what))
    if design.board is None:
        return Fit(design, ())
    uses = open_uses(design, design.board)
    fixed = [use for use in design.uses if use.pin.gpio >= 0]
    return solve(design, uses, fixed)


def open_uses(design: Design, board: Board) -> list[PinUse]:
    """The uses whose pin is to be chosen; the pin in each stands for none yet."""
    nowhere = board.chip.pins[min(board.chip.pins)]
    return [
        PinUse(part, need, nowhere)
        for part in design.parts.values()
        for need in part.needs
        if need.field in part.autos
    ]


def solve(design: Design, uses: Sequence[PinUse], fixed: Sequence[PinUse]) -> Fit:
    """The cheapest placement of `uses` on the board's pins that `fixed` leaves free."""
    assert design.board is not None
    taken = {use.pin.gpio for use in fixed}
    pins = [pin for pin in all_pins(design.board) if pin.gpio not in taken]
    table = cost_table(design, uses, pins)
    if not uses:
        return Fit(design, ())
    coupled = _coupled(design, uses)
    chosen = _program(design, uses, pins, table, fixed) if coupled else _assignment(table)
    if chosen is None:
        return Fit(design, (), conflict(design, uses, pins, table))
    return Fit(
        design,
        tuple(
            _placement(design, use, pins[at], table[n][at])
            for n, (use, at) in enumerate(zip(uses, chosen, strict=True))
        ),
    )


def all_pins(board: Board) -> list[Pin]:
    """Pins that a part may stand on: those brought out, and a fitted part's own for parts of its kind."""
    own = [board.pin(f.pins[0]) for f in board.fitted if f.kind and len(f.pins) == 1 and not f.taken]
    return list(dict.fromkeys([*board.usable, *own]))


def cost_table(design: Design, uses: Sequence[PinUse], pins: Sequence[Pin]) -> list[list[int | None]]:
    """The cost of each pin for each use; None where it cannot be. Equal needs are judged once."""
    seen: dict[tuple[Any, ...], list[int | None]] = {}
    table: list[list[int | None]] = []
    for use in uses:
        key = (use.part.kind.name, use.need)
        if key not in seen:
            seen[key] = [_cost(design, use, pin) for pin in pins]
        table.append(seen[key])
    return table


def _cost(design: Design, use: PinUse, pin: Pin) -> int | None:
    board = design.board
    fitted = board.fitted_on.get(pin.gpio) if board else None
    if fitted and board and pin.gpio not in board.label_of and fitted.kind != use.part.kind.name:
        return None
    return cost(use.on(pin), design)


def _assignment(table: Sequence[Sequence[int | None]]) -> list[int] | None:
    """The optimum of the plain assignment, or None."""
    import numpy
    from scipy import optimize as untyped

    optimize: Any = untyped
    if len(table) > len(table[0]):
        return None
    matrix = numpy.array([[numpy.inf if c is None else c for c in row] for row in table], dtype=float)
    try:
        return [int(at) for at in optimize.linear_sum_assignment(matrix)[1]]
    except ValueError:
        return None


def _coupled(design: Design, uses: Sequence[PinUse]) -> bool:
    """True where pins depend on one another: fixed routing, or modulation outputs that pins share."""
    assert design.board is not None
    chip = design.board.chip
    routed = any(use.need.controller in chip.routes for use in uses)
    return routed or bool(chip.resources.pwm_fixed and sum(use.need.pwm for use in uses))


def _program(
    design: Design,
    uses: Sequence[PinUse],
    pins: Sequence[Pin],
    table: Sequence[Sequence[int | None]],
    fixed: Sequence[PinUse],
) -> list[int] | None:
    """The optimum with couplings, or None."""
    from zapato.fitting.program import FittingProgram

    assert design.board is not None
    return FittingProgram(design.board.chip, uses, pins, table, fixed).solve()


def _placement(design: Design, use: PinUse, pin: Pin, price: int | None) -> Placement:
    at = use.on(pin)
    minds = tuple(problem for _, problem in incompatibilities(at, design))
    return Placement(use.part.name, use.need.field, pin, written(design, pin), price or 0, minds)


def written(design: Design, pin: Pin) -> int | str:
    """A pin as a device file has it: the label where the board's labels are not the chip's numbers."""
    assert design.board is not None
    board = design.board
    label = board.label_of.get(pin.gpio)
    if label is None:
        return board.fitted_on[pin.gpio].name
    return label if pin.analog_only or board.called(pin) != pin.name else pin.gpio
