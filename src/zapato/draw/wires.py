"""The wiring sheet: the board in the middle, a line from each pin to its part, rails by their voltage. One page of A4."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zapato.design import Design
from zapato.draw.arrangement import Arrangement, Box, BoxLine, arrange
from zapato.draw.figure import FEEL, GRID, INK, INTO, NET, OUT, PAPER, WRONG, new_figure
from zapato.wiring import PinRow, Wire, wiring

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

WIDE, HIGH = 8.27, 11.69
"""Inches of A4, upright."""
TOP, FOOT = 0.95, 0.85
BOARD = (3.3, 4.97)
"""Where the board begins and ends, in inches from the left."""
BOX = 2.35
"""Inches of a part's box."""
MOST, LEAST = 0.23, 0.085
"""Inches of a row."""
VOLTS = (
    (0.0, INK),
    (3.6, "#c46a00"),
    (4.4, "#c2418c"),
    (5.5, WRONG),
    (15.0, "#8a6d00"),
    (60.0, "#6b3fa0"),
    (1e9, "#000000"),
)
"""Up to so many V: the colour of a conductor. Ground, 3.3 V, a lithium cell, 5 V, 12 V, 24 V, mains."""
SIGNALS = (INTO, FEEL, NET, "#0a7d7d", OUT)
"""Colours of signal lines, one after the other, so that neighbours differ."""


def wiring_sheet(design: Design) -> Figure:
    """The wiring of a device on one page."""
    sheet = wiring(design)
    bench = arrange(design, sheet)
    rows = max(_height(bench.left), _height(bench.right), *(len(column) + 1 for column in bench.columns), 1)
    extra = sum(not _brought_out(bench, label) for label in bench.fitted)
    below = _below(bench, sheet.left_out)
    row = max(LEAST, min(MOST, (HIGH - TOP - below) / (rows + extra)))
    high = min(HIGH, max(4.0, TOP + row * (rows + extra) + below))
    figure = new_figure(WIDE, high)
    figure.set_layout_engine("none")
    axis = figure.add_axes((0, 0, 1, 1))
    axis.set_axis_off()
    axis.set_xlim(0, WIDE)
    axis.set_ylim(high, 0)
    _head(axis, design)
    _foot(axis, bench, sheet.left_out, high)
    pins = _board(axis, bench, row)
    for side, boxes in enumerate((bench.left, bench.right)):
        _side(axis, boxes, side, row, pins)
    return figure


def _height(boxes: list[Box]) -> float:
    return sum(len(box.lines) + 1.7 for box in boxes)


def _size(row: float) -> float:
    """Points of a text in a row of so many inches."""
    return max(4.0, min(8.0, row * 72 * 0.62))


def _head(axis: Axes, design: Design) -> None:
    board = design.board
    title = f"{design.label or design.name}: wiring"
    axis.text(
        0.3,
        0.38,
        title,
        fontsize=min(14.0, 14 * 58 / len(title)),
        weight="bold",
        color=INK,
        va="center",
    )
    about = f"{board.id}: {board.title}; supply off while wiring" if board else ""
    axis.text(0.3, 0.66, _short(about, 110), fontsize=8.5, color=INK, va="center")


def colour(wire: Wire) -> str:
    """A conductor's colour, by its voltage."""
    return (
        VOLTS[0][1]
        if wire.kind == "ground"
        else next(shade for most, shade in VOLTS[1:] if wire.volts <= most)
    )


def _board(axis: Axes, bench: Arrangement, row: float) -> tuple[list[float], list[float]]:
    """The board with its headers in order; gives the height of each pin, left and right."""
    from matplotlib.patches import FancyBboxPatch

    deepest = max(len(column) for column in bench.columns)
    left, right = BOARD
    high = row * (deepest + 0.6)
    axis.add_patch(
        FancyBboxPatch((left, TOP), right - left, high, boxstyle="round,pad=0,rounding_size=0.08", fc="#eef1f2", ec=INK, lw=1.2)
    )  # fmt: skip
    heights: tuple[list[float], list[float]] = ([], [])
    for side, column in enumerate(bench.columns):
        for at, pin in enumerate(column):
            y = TOP + row * (at + 0.8)
            heights[side].append(y)
            _pin(axis, pin, y, side, row, bench.fitted.get(pin.label, ""), pin.label in bench.used)
    for pad, (label, what) in enumerate(
        item for item in bench.fitted.items() if not _brought_out(bench, item[0])
    ):
        y = TOP + high + row * (pad + 0.9)
        axis.text(
            (left + right) / 2,
            y,
            _short(f"{label} = {what}", 44),
            fontsize=_size(row) * 0.85,
            color="#5a666e",
            ha="center",
            va="center",
            style="italic",
        )
    return heights


def _brought_out(bench: Arrangement, label: str) -> bool:
    return any(pin.label == label for column in bench.columns for pin in column)


def _pin(axis: Axes, pin: PinRow, y: float, side: int, row: float, fitted: str, taken: bool) -> None:
    edge, sign = BOARD[side], 1 if side == 0 else -1
    used = bool(pin.use) or taken
    axis.plot(
        [edge], [y], marker="s", ms=max(2.0, row * 24), color=INK if used else "#b8c1c7", mec=INK, mew=0.5
    )
    text = f"{pin.label}" + (f"  {_short(fitted, 20)}" if fitted else "")
    axis.text(
        edge + sign * 0.09, y, text, fontsize=_size(row), va="center", ha="left" if side == 0 else "right",
        color=INK if used and not fitted else "#5a666e", weight="bold" if used and not fitted else "normal",
    )  # fmt: skip


def _side(axis: Axes, boxes: list[Box], side: int, row: float, pins: tuple[list[float], list[float]]) -> None:
    """The boxes of one side, and the lines from their rows to the board."""
    y, number = TOP, 0
    for box in boxes:
        number = _box(axis, box, y, side, row, pins, number)
        y += row * (len(box.lines) + 1.7)


def _box(
    axis: Axes, box: Box, y: float, side: int, row: float, pins: tuple[list[float], list[float]], number: int
) -> int:
    from matplotlib.patches import FancyBboxPatch

    left = 0.3 if side == 0 else WIDE - 0.3 - BOX
    high = row * (len(box.lines) + 1.2)
    edge, hatch = ("#e2a9a3", "////") if box.apart else (INK, None)
    axis.add_patch(
        FancyBboxPatch((left, y), BOX, high, boxstyle="round,pad=0,rounding_size=0.06", fc="#fdf3f2" if box.apart else PAPER, lw=1.0, ec=edge, hatch=hatch)
    )  # fmt: skip
    size = _size(row)
    axis.text(
        left + 0.08,
        y + row * 0.65,
        _short(box.title, 30),
        fontsize=size * 1.1,
        weight="bold",
        color=INK,
        va="center",
        bbox=_plate(),
    )
    longest = max((len(line.name) + len(_end_label(line)) for line in box.lines), default=1)
    size *= max(SMALLEST, min(1.0, (BOX - 0.25) * 72 / (WIDTH * size) / longest))
    for at, line in enumerate(box.lines):
        at_y = y + row * (at + 1.6)
        shade = SIGNALS[number % len(SIGNALS)] if line.pin else colour(line.wire)
        if line.pin:
            _lead(axis, line.pin[0], pins[line.pin[0]][line.pin[1]], at_y, side, shade, row)
            number += 1
        _row(axis, line, at_y, side, left, size, shade)
    return number


def _plate() -> dict[str, object]:
    """What a text stands on, so that a hatch does not run through it."""
    return {"boxstyle": "square,pad=0.12", "fc": PAPER, "ec": "none", "alpha": 0.9}


def _row(axis: Axes, line: BoxLine, y: float, side: int, left: float, size: float, shade: str) -> None:
    """A terminal: its name, and where it leads with what stands in between."""
    inner = left + BOX if side == 0 else left
    wire, end_label = line.wire, _end_label(line)
    axis.plot([inner], [y], marker="o", ms=size * 0.55, color=shade)
    name_x, other_x = (left + 0.08, inner - 0.09) if side == 0 else (left + BOX - 0.08, inner + 0.09)
    ends = ("left", "right") if side == 0 else ("right", "left")
    weight = "bold" if wire.kind in ("mains", "supply") else "normal"
    fits = int((BOX - 0.25) * 72 / (WIDTH * size))
    name = _short(line.name, max(10, fits - len(end_label)))
    axis.text(name_x, y, name, fontsize=size, color=INK, ha=ends[0], va="center", bbox=_plate())
    axis.text(
        other_x, y, _short(end_label, max(8, fits - len(name))), fontsize=size * 0.95, color=shade, ha=ends[1], va="center",
        bbox=_plate(), weight=weight,
    )  # fmt: skip


WIDTH, SMALLEST = 0.64, 0.7
"""Width of a letter as a share of its size; how much smaller the rows of a box may be."""


def _end_label(line: BoxLine) -> str:
    """Where a terminal leads, with its voltage and what stands in between."""
    wire, where = line.wire, line.other
    if wire.kind == "supply" and wire.start.startswith("board "):
        where = f"{wire.volts:g} V, pin {where}"
    elif wire.kind == "supply" and f"{wire.volts:g} V" != where:
        where = f"{wire.volts:g} V, {where}"
    if not wire.through:
        return where
    return f"{where} via {wire.through}" if line.pin else f"{wire.through} to {where}"


def _lead(axis: Axes, column: int, pin: float, y: float, side: int, shade: str, row: float) -> None:
    """A line from a pin to a row, flat at both ends; across the board where the pin is at its other side."""
    from matplotlib.patches import PathPatch
    from matplotlib.path import Path

    points, codes = [(BOARD[column], pin)], [Path.MOVETO]
    if column != side:
        between, inward = pin + row / 2, 0.06 if column == 0 else -0.06
        points += [(BOARD[column] + inward, between), (BOARD[side], between)]
        codes += [Path.LINETO] * 2
    start, end = points[-1], (0.3 + BOX if side == 0 else WIDE - 0.3 - BOX)
    middle = (start[0] + end) / 2
    points += [(middle, start[1]), (middle, y), (end, y)]
    codes += [Path.CURVE4] * 3
    axis.add_patch(PathPatch(Path(points, codes), fc="none", ec=shade, lw=1.3, capstyle="round"))


LINE = 0.17
"""Inches of a line of the foot."""


def _below(bench: Arrangement, left_out: tuple[str, ...]) -> float:
    """Inches that the foot takes."""
    return FOOT + LINE * (-(-len(bench.supplies) // 2) + len(left_out))


def _foot(axis: Axes, bench: Arrangement, left_out: tuple[str, ...], high: float) -> None:
    """What feeds everything, what is left out, and the colours."""
    lines = [(f"{wire.start} to {wire.end}", wire) for wire in bench.supplies]
    half = -(-len(lines) // 2)
    begin = high - _below(bench, left_out) + 0.15
    axis.plot([0.3, WIDE - 0.3], [begin, begin], color=GRID, lw=1)
    for number, (text, wire) in enumerate(lines):
        x, y = 0.3 + (number >= half) * (WIDE / 2 - 0.2), begin + LINE * (number % half + 0.8)
        axis.plot([x, x + 0.3], [y, y], color=colour(wire), lw=2.0, ls="--" if wire.kind == "serial" else "-")
        note = f"  ({wire.note})" if wire.note else ""
        axis.text(
            x + 0.38, y, _short(f"{text}, {wire.carries}{note}", 66), fontsize=7, color=INK, va="center"
        )
    for number, text in enumerate(left_out):
        y = begin + LINE * (half + number + 0.8)
        axis.text(
            0.3, y, _short(f"not drawn: {text}", 120), fontsize=7, color=WRONG, va="center", weight="bold"
        )
    _legend(axis, high - 0.35, bench)


def _legend(axis: Axes, y: float, bench: Arrangement) -> None:
    """The colours that are on this sheet."""
    words = ("ground", "3.3 V", "lithium cell", "5 V", "12 V", "24 V", "mains")
    wires = [
        *bench.supplies,
        *(line.wire for box in (*bench.left, *bench.right) for line in box.lines if not line.pin),
    ]
    there = {colour(wire) for wire in wires}
    x = 0.3
    for (_, shade), word in zip(VOLTS, words, strict=True):
        if shade in there:
            axis.plot([x, x + 0.25], [y, y], color=shade, lw=2.4)
            axis.text(x + 0.32, y, word, fontsize=7, color=INK, va="center")
            x += 0.55 + 0.065 * len(word)
    axis.text(
        WIDE - 0.3,
        y,
        "lines to pins: signals",
        fontsize=7,
        color=INK,
        va="center",
        ha="right",
        style="italic",
    )


def _short(text: str, most: int) -> str:
    """A text that fits: names that are alike differ at their ends, so the middle goes."""
    half = most // 2
    return text if len(text) <= most else f"{text[: most - half - 1]}…{text[-half:]}"
