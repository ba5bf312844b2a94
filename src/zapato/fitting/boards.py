"""Which boards can carry a device, ranked."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

from zapato.boards import Board, boards
from zapato.boards.own import site_boards
from zapato.budgets.memory import memory
from zapato.design import Design, PinUse, resolve
from zapato.fitting.solve import Fit, all_pins, solve
from zapato.parts.kind import Need, Part
from zapato.record import record


@record(frozen=True)
class BoardFit:
    """How a device fits a board.

    Attributes:
        board: which.
        fit: the placement with every pin free to choose.
        loses: what the device would have to give up or mind there, in words; empty where nothing.
        free: usable pins left over.
        starts: the chip has memory for its firmware.
    """

    board: Board
    fit: Fit
    loses: tuple[str, ...]
    free: int
    starts: bool = True

    @property
    def ok(self) -> bool:
        """True where every part finds a pin, and the firmware has room."""
        return self.fit.ok and self.starts


def fit_boards(what: Design | Path | str) -> list[BoardFit]:
    """Every board of the catalogue and of the site, the best first: carries all, fewest hazards, most pins left."""
    design = what if isinstance(what, Design) else resolve(Path(what))
    known = (*boards(), *site_boards(design.site.root).boards.values())
    fits = [_on(design, board) for board in known]
    return sorted(
        fits,
        key=lambda board_fit: (not board_fit.ok, len(board_fit.loses), board_fit.fit.cost, -board_fit.free),
    )


def _on(design: Design, board: Board) -> BoardFit:
    moved = replace(design, board=board, uses=[])
    uses = [PinUse(part, need, board.chip.pins[min(board.chip.pins)]) for part, need in _needs(design)]
    result = solve(moved, uses, [])
    loses = [result.conflict.reason] if result.conflict else []
    loses += [
        f"{p.part}: {mind.message}"
        for p in result.placements
        for mind in p.minds
        if mind.severity == "warning"
    ]
    taken = memory(moved)
    if taken and taken.heap > taken.starts:
        loses.append(
            f"its firmware takes {taken.heap / 1024:.1f} KiB of heap, and starts with {taken.starts / 1024:.1f} at the most"
        )
    if design.ethernet is not None and not board.ethernet:
        loses.append("no wired Ethernet")
    if any(design.with_role("radio")) and not board.chip.bluetooth:
        loses.append("no Bluetooth")
    starts = taken is None or taken.heap <= taken.starts
    return BoardFit(board, result, tuple(loses), len(all_pins(board)) - len(result.placements), starts)


def _needs(design: Design) -> Iterator[tuple[Part, Need]]:
    """Every pin that the device needs of its board's chip, but for pins that an expander offers."""
    for part in design.parts.values():
        for need in part.needs:
            if not _offered(part, need.field):
                yield part, need


def _offered(part: Part, field: str) -> bool:
    return field in part.pins and part.pins[field].gpio < 0
