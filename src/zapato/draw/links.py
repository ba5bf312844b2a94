"""Links as a graph: what is listened to at the left, the rule in the middle, what is told at the right."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, cast

from zapato.design import Design
from zapato.design.links import Link, starts
from zapato.draw.figure import GRID, INK, INTO, OUT, PAPER, new_figure

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

ROW = 0.62


def sources(link: Link) -> list[str]:
    """The parts that a link listens to or asks, in order."""
    found = [link.event[0]] if link.event else []
    for _, expression in link.expressions:
        found += [part for part, _ in expression.reads]
    if link.at:
        found.append("clock")
    return list(dict.fromkeys(found)) or ["time"]


def targets(link: Link) -> list[str]:
    """The parts that a link tells, in order; "notes" for texts."""
    names = ["notes" if each.action == "notify" else each.part for each in link.commands]
    return list(dict.fromkeys(names))


def link_graph(design: Design) -> Figure:
    """Every link of a device."""
    links = design.links
    left, right = _ordered(links, sources), _ordered(links, targets)
    deepest = max(len(left), len(links), len(right), 2)
    figure = new_figure(12.8, max(4.0, 1.4 + ROW * deepest))
    axis = figure.subplots()
    axis.set_axis_off()
    axis.set_xlim(0, 12.8)
    axis.set_ylim(-deepest - 0.2, 1.3)
    axis.text(
        0.1,
        0.85,
        f"{design.label or design.name}: what follows what",
        fontsize=14,
        weight="bold",
        color=INK,
        va="center",
    )
    y_left, y_right = _spread(left, deepest), _spread(right, deepest)
    y_link = _spread([str(link.number) for link in links], deepest)
    for link in links:
        y = y_link[str(link.number)]
        for name in sources(link):
            axis.plot([2.6, 4.0], [y_left[name], y], color=INTO, lw=1.4)
        for name in targets(link):
            axis.annotate(
                "", (10.3, y_right[name]), (8.9, y), arrowprops={"arrowstyle": "-|>", "color": OUT, "lw": 1.4}
            )
        _rule(axis, written(design, link), y)
    for name, y in y_left.items():
        _box(axis, name, 2.6, y, INTO, "right")
    for name, y in y_right.items():
        _box(axis, name, 10.3, y, OUT, "left")
    return figure


def _ordered(links: Sequence[Link], ends: Callable[[Link], list[str]]) -> list[str]:
    """The names at one side, each as near to its links as may be."""
    places: dict[str, list[int]] = {}
    for link in links:
        for name in ends(link):
            places.setdefault(name, []).append(link.number)
    return sorted(places, key=lambda name: (sum(places[name]) / len(places[name]), name))


def _spread(names: list[str], deepest: int) -> dict[str, float]:
    """Heights of these, evenly over the picture."""
    step = deepest / max(1, len(names))
    return {name: -(at + 0.5) * step for at, name in enumerate(names)}


def _box(axis: Axes, name: str, x: float, y: float, color: str, side: str) -> None:
    text = name if len(name) <= 20 else name[:19] + "…"
    axis.text(
        x, y, text, fontsize=10, weight="bold", color=PAPER, ha=side, va="center",
        bbox={"boxstyle": "round,pad=0.3", "fc": color, "ec": INK, "lw": 0.8},
    )  # fmt: skip


def written(design: Design, link: Link) -> Mapping[str, Any]:
    """The table of a link as the device file has it."""
    return cast(Mapping[str, Any], design.document.data["link"][link.number - 1])


def _rule(axis: Axes, row: Mapping[str, Any], y: float) -> None:
    """The words of the rule, as they are written."""
    from matplotlib.patches import Rectangle

    axis.add_patch(Rectangle((4.0, y - 0.36), 4.9, 0.72, fc=PAPER, ec=GRID, lw=1.2, zorder=3))
    when = starts(row)
    rest = [
        f"{key} {row[key]}"
        for key in ("if", "for", "after", "held", "every", "times")
        if key in row and f"every {row[key]}" != when
    ]
    lines = [_short(when), _short("; ".join(rest))] if rest else [_short(when)]
    axis.text(
        6.45,
        y,
        "\n".join(lines),
        fontsize=8.5,
        color=INK,
        ha="center",
        va="center",
        linespacing=1.25,
        zorder=4,
    )


def _short(text: str) -> str:
    return text if len(text) <= 68 else text[:67] + "…"
