"""The pin map: the board in header order, each pin by use and hazard."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zapato.design import Design
from zapato.draw.arrangement import columns_of
from zapato.draw.figure import FEEL, GRID, INK, OUT, PAPER, new_figure
from zapato.wiring import PinRow, State, pin_rows

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

FILLS: dict[State, tuple[str, str]] = {
    "used": (OUT, ""),
    "free": (PAPER, ""),
    "mind": ("#f2d06b", "////"),
    "forbidden": ("#8c979e", "xxxx"),
    "supply": (GRID, ""),
}
"""Colour and hatching of each state: told apart in grey, too."""
WORDS: dict[State, str] = {
    "used": "used",
    "free": "free",
    "mind": "free, with a restriction",
    "forbidden": "not to be used",
    "supply": "supply and ground",
}
ROW = 0.30
"""Inches of a pin's row."""
SIDE, GAP, NAME = 4.6, 1.9, 24


def pin_map(design: Design) -> Figure:
    """The board seen from above, parts named at their pins."""
    rows = pin_rows(design)
    columns = columns_of(rows)
    deepest = max((len(column) for column in columns), default=1)
    figure = new_figure(12.8, max(4.6, 2.0 + ROW * deepest))
    axis = figure.subplots()
    axis.set_axis_off()
    axis.set_xlim(0, 12.8)
    axis.set_ylim(-(deepest + 2.6), 2.4)
    board = design.board
    title = f"{design.label or design.name}: pins of {board.id if board else '?'}"
    axis.text(0.1, 1.7, title, fontsize=15, weight="bold", color=INK, va="center")
    axis.text(0.1, 0.95, board.title if board else "", fontsize=10, color=INK, va="center")
    _body(axis, deepest, [column[0].side if column else "" for column in columns])
    for number, column in enumerate(columns):
        for at, row in enumerate(column):
            _pin(axis, row, -at - 0.5, left=number == 0)
    _legend(axis, -(deepest + 1.6))
    return figure


def _body(axis: Axes, deepest: int, names: list[str]) -> None:
    from matplotlib.patches import FancyBboxPatch

    low, wide = -deepest - 0.25, 2 * GAP
    box = FancyBboxPatch(
        (6.4 - GAP, low),
        wide,
        deepest + 0.5,
        boxstyle="round,pad=0.02,rounding_size=0.18",
        fc="#eef1f2",
        ec=INK,
        lw=1.4,
    )
    axis.add_patch(box)
    for name, x, side in zip(names, (6.4 - GAP + 0.1, 6.4 + GAP - 0.1), ("left", "right"), strict=True):
        if name:
            axis.text(x, low - 0.15, name, fontsize=8, color=INK, ha=side, va="top", style="italic")


def _pin(axis: Axes, row: PinRow, y: float, *, left: bool) -> None:
    """One pin: its pad and label on the board, its state and use beside it."""
    from matplotlib.patches import Rectangle

    sign = -1 if left else 1
    edge = 6.4 + sign * GAP
    fill, hatch = FILLS[row.state]
    axis.add_patch(Rectangle((edge - 0.14, y - 0.33), 0.28, 0.66, fc=fill, ec=INK, lw=1.0, hatch=hatch))
    inner, outer = ("left", "right") if left else ("right", "left")
    chip = "" if row.gpio is None or row.label == str(row.gpio) else f"  {row.gpio}"
    axis.text(
        edge - sign * 0.26,
        y,
        f"{row.label}{chip}",
        fontsize=9.5,
        color=INK,
        ha=inner,
        va="center",
        weight="bold",
    )
    x = edge + sign * 0.3
    if row.use:
        shown = row.use if len(row.use) <= NAME else row.use[: NAME - 1] + "…"
        axis.text(
            x, y, shown, fontsize=10, color=PAPER, ha=outer, va="center", weight="bold",
            bbox={"boxstyle": "round,pad=0.22", "fc": OUT, "ec": INK, "lw": 0.8},
        )  # fmt: skip
    elif row.state == "free":
        axis.text(x, y, "free", fontsize=9.5, color=FEEL, ha=outer, va="center", weight="bold")
    elif row.state == "forbidden":
        axis.text(x, y, f"✕ {row.note}", fontsize=9, color=INK, ha=outer, va="center")
    end = 0.1 if left else 12.7
    note = row.note if row.state in ("used", "mind", "free") else ""
    if row.state == "mind" and not row.use:
        axis.text(x, y, f"! {note}", fontsize=9, color=INK, ha=outer, va="center")
        note = ""
    text = (
        "   ".join(note_text for note_text in (note, row.can) if note_text)
        if row.state != "forbidden"
        else ""
    )
    axis.text(end, y, text, fontsize=7.5, color="#5a666e", ha="left" if left else "right", va="center")


def _legend(axis: Axes, y: float) -> None:
    from matplotlib.patches import Rectangle

    x = 0.2
    for state, word in WORDS.items():
        fill, hatch = FILLS[state]
        axis.add_patch(Rectangle((x, y - 0.3), 0.28, 0.6, fc=fill, ec=INK, lw=1.0, hatch=hatch))
        axis.text(x + 0.4, y, word, fontsize=9, color=INK, va="center")
        x += 0.9 + 0.088 * len(word)
    axis.text(
        12.7,
        y,
        "seen from above, in the board's own order",
        fontsize=8,
        color=INK,
        va="center",
        ha="right",
        style="italic",
    )
