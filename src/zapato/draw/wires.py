"""The wiring sheet: each part with its terminals, what leads to them, and what stands in between."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zapato.design import Design
from zapato.draw.figure import FEEL, GRID, INK, INTO, NET, OUT, PAPER, WRONG, new_figure
from zapato.wiring import Sheet, Wire, wiring

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

COLORS = {
    "signal": INTO, "serial": NET, "3V3": OUT, "5V": WRONG, "12V": "#7a4b12", "ground": INK, "mains": "#000000",
}  # fmt: skip
STYLES = {
    "ground": (0, (1, 1.2)),
    "serial": (0, (5, 2)),
    "3V3": "-",
    "5V": "-",
    "12V": "-",
    "signal": "-",
    "mains": "-",
}
"""How a line is drawn, so that it is told apart in grey, too."""
TALL = 24
"""Rows of one column; a sheet with more of them has two."""
ROW = 0.32


def wiring_sheet(design: Design) -> Figure:
    """The wiring of a device, part by part."""
    sheet = wiring(design)
    groups = _groups(sheet)
    rows = sum(len(wires) + 1.2 for _, wires in groups)
    two = rows > TALL
    columns = _split(groups, rows / 2) if two else [groups]
    deepest = max(sum(len(wires) + 1.2 for _, wires in column) for column in columns)
    figure = new_figure(12.8, max(4.6, 2.3 + ROW * deepest))
    axis = figure.subplots()
    axis.set_axis_off()
    axis.set_xlim(0, 12.8)
    axis.set_ylim(-(deepest + 2.4), 2.6)
    title = f"{design.label or design.name}: wiring"
    axis.text(0.1, 2.0, title, fontsize=15, weight="bold", color=INK, va="center")
    head = f"board {design.board.id}; supply off while wiring" if design.board else ""
    axis.text(0.1, 1.2, head, fontsize=10, color=INK, va="center")
    width = 12.8 / len(columns)
    for number, column in enumerate(columns):
        y = 0.0
        for name, wires in column:
            y = _group(axis, name, wires, number * width, width, y, name in sheet.apart)
    _legend(axis, -(deepest + 1.5), {wire.kind for wire in sheet.wires})
    return figure


def _groups(sheet: Sheet) -> list[tuple[str, list[Wire]]]:
    found: dict[str, list[Wire]] = {}
    for wire in sheet.wires:
        found.setdefault(wire.part, []).append(wire)
    return list(found.items())


def _split(groups: list[tuple[str, list[Wire]]], half: float) -> list[list[tuple[str, list[Wire]]]]:
    first: list[tuple[str, list[Wire]]] = []
    taken = 0.0
    while groups and taken < half:
        taken += len(groups[0][1]) + 1.2
        first.append(groups[0])
        groups = groups[1:]
    return [first, groups]


def _group(axis: Axes, name: str, wires: list[Wire], x: float, width: float, y: float, apart: bool) -> float:
    """One part: its box at the right, a line for each of its wires; gives where the next begins."""
    from matplotlib.patches import FancyBboxPatch

    left, right = x + 0.32 * width, x + 0.62 * width
    low = y - len(wires) - 0.15
    place, high, form = (right, low), len(wires) + 0.3, "round,pad=0.0,rounding_size=0.12"
    if apart:
        axis.add_patch(
            FancyBboxPatch(
                place, 0.35 * width, high, boxstyle=form, fc="#fdecea", ec="#f2c4bf", lw=0, hatch="//"
            )
        )
    fill = "none" if apart else "#eef1f2"
    axis.add_patch(
        FancyBboxPatch(place, 0.35 * width, high, boxstyle=form, fc=fill, ec=WRONG if apart else INK, lw=1.4)
    )
    axis.text(
        right + 0.335 * width, y - len(wires) / 2, _short(name, 16), fontsize=11, weight="bold", color=INK, ha="right", va="center",
        bbox={"boxstyle": "round,pad=0.15", "fc": PAPER, "ec": "none"},
    )  # fmt: skip
    for number, wire in enumerate(wires):
        _wire(axis, wire, y - number - 0.5, x, left, right, name)
    return low - 1.05


def _wire(axis: Axes, wire: Wire, y: float, x: float, left: float, right: float, name: str) -> None:
    color = COLORS[wire.kind]
    axis.plot(
        [left, right],
        [y, y],
        color=color,
        lw=3.0 if wire.kind == "mains" else 2.0,
        ls=STYLES[wire.kind],
        solid_capstyle="butt",
    )
    axis.plot([left, right], [y, y], ls="", marker="o", ms=5, color=color)
    axis.text(left - 0.08, y, _short(wire.start, 22), fontsize=9.5, color=INK, ha="right", va="center")
    end = wire.end.removeprefix(f"{name} ")
    axis.text(
        right + 0.08, y, _short(end, 20), fontsize=9.5, color=INK, va="center",
        bbox={"boxstyle": "round,pad=0.12", "fc": PAPER, "ec": "none", "alpha": 0.85},
    )  # fmt: skip
    middle = (left + right) / 2
    if wire.through:
        axis.text(
            middle, y, _short(wire.through, 30), fontsize=8, color=INK, ha="center", va="center",
            bbox={"boxstyle": "square,pad=0.25", "fc": PAPER, "ec": INK, "lw": 1.0},
        )  # fmt: skip
    elif wire.note:
        axis.text(
            middle, y + 0.14, _short(wire.note, 44), fontsize=7, color="#5a666e", ha="center", va="bottom"
        )


def _short(text: str, most: int) -> str:
    """A text that fits: names that are alike differ at their ends, so the middle goes."""
    half = most // 2
    return text if len(text) <= most else f"{text[: most - half - 1]}…{text[-half:]}"


def _legend(axis: Axes, y: float, kinds: set[str]) -> None:
    words = {
        "signal": "signal",
        "serial": "serial, crossed",
        "3V3": "3.3 V",
        "5V": "5 V",
        "12V": "more than 5 V",
        "ground": "ground",
        "mains": "mains, kept apart",
    }
    x = 0.2
    for kind, word in words.items():
        if kind in kinds:
            axis.plot(
                [x, x + 0.55], [y, y], color=COLORS[kind], lw=3.0 if kind == "mains" else 2.0, ls=STYLES[kind]
            )
            axis.text(x + 0.68, y, word, fontsize=9, color=INK, va="center")
            x += 1.1 + 0.095 * len(word)
    axis.plot([0.1, 12.7], [y + 0.9, y + 0.9], color=GRID, lw=1)
    axis.text(
        12.7,
        y,
        "a square in a line stands in it",
        fontsize=8,
        color=FEEL,
        va="center",
        ha="right",
        style="italic",
    )
