"""Rules as a graph: what is listened to at the left, the rule in the middle, what is told at the right.

A rule is a link, or a part that follows an expression: a guard, a derived value, a tally, an LED that shows one.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any, cast

from zapato.design import Design
from zapato.design.links import Link, starts, written_actions
from zapato.draw.figure import GRID, INK, INTO, OUT, PAPER, new_figure
from zapato.lang.expressions import compile_expression
from zapato.parts.kind import Part
from zapato.record import record

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

ROW = 0.7


def sources(link: Link) -> list[str]:
    """The parts that a link listens to or asks, in order."""
    names = [link.event[0]] if link.event else []
    for _, expression in link.expressions:
        names += [part for part, _ in expression.reads]
    if link.at:
        names.append("clock")
    return list(dict.fromkeys(names)) or ["time"]


def targets(link: Link) -> list[str]:
    """The parts that a link tells, in order; "notes" for texts."""
    names = ["notes" if command.action == "notify" else command.part for command in link.commands]
    return list(dict.fromkeys(names))


@record(frozen=True)
class LinkRow:
    """One box of the graph: what it listens to, its words (a title, when, and what is done), and what it tells."""

    number: int
    sources: tuple[str, ...]
    targets: tuple[str, ...]
    title: str
    when: str
    does: str


def rules_of(design: Design) -> list[LinkRow]:
    """Every link, then every part that follows an expression."""
    rows = [_of_link(design, link) for link in design.links]
    for part in design.parts.values():
        rows += _of_part(design, part, len(rows))
    return rows


def _of_link(design: Design, link: Link) -> LinkRow:
    row = written(design, link)
    when = starts(row)
    rest = [
        f"{key} {row[key]}"
        for key in ("if", "for", "after", "held", "every", "times")
        if key in row and f"every {row[key]}" != when
    ]
    does = "; ".join(written_actions(row))
    title = str(row.get("label", ""))
    return LinkRow(
        link.number - 1, tuple(sources(link)), tuple(targets(link)), title, "; ".join([when, *rest]), does
    )


def _of_part(design: Design, part: Part, number: int) -> Iterator[LinkRow]:
    """The rule of a part with an expression of its own."""
    for field in part.fields:
        text = part.values.get(field.name) if field.role == "condition" else None
        if not isinstance(text, str) or text in part.kind.words:
            continue
        read = compile_expression(text, design.scope)
        listens = tuple(dict.fromkeys(name for name, _ in read.reads)) or ("time",)
        holds = tuple(part.get("off", ()))
        does = f"holds off {', '.join(holds)}" if holds else f"sets {part.name}"
        yield LinkRow(number, listens, holds or (part.name,), f"{part.kind.name} {part.name}", text, does)
        number += 1


def link_graph(design: Design) -> Figure:
    """Every link of a device, and every part that follows an expression."""
    rules = rules_of(design)
    left, right = _ordered(rules, lambda rule: rule.sources), _ordered(rules, lambda rule: rule.targets)
    deepest = max(len(left), len(rules), len(right), 2)
    figure = new_figure(12.8, max(4.0, 1.4 + ROW * deepest))
    axis = figure.subplots()
    axis.set_axis_off()
    axis.set_xlim(0, 12.8)
    axis.set_ylim(-deepest - 0.2, 1.3)
    title = f"{design.label or design.name}: what follows what"
    axis.text(0.1, 0.85, title, fontsize=14, weight="bold", color=INK, va="center")
    y_left, y_right = _spread(left, deepest), _spread(right, deepest)
    y_rule = _spread([str(rule.number) for rule in rules], deepest)
    for rule in rules:
        y = y_rule[str(rule.number)]
        for name in rule.sources:
            axis.plot([2.6, 3.8], [y_left[name], y], color=INTO, lw=1.4)
        for name in rule.targets:
            axis.annotate(
                "", (10.3, y_right[name]), (9.1, y), arrowprops={"arrowstyle": "-|>", "color": OUT, "lw": 1.4}
            )
        _rule(axis, rule, y)
    for name, y in y_left.items():
        _box(axis, name, 2.6, y, INTO, "right")
    for name, y in y_right.items():
        _box(axis, name, 10.3, y, OUT, "left")
    return figure


def _ordered(rules: Sequence[LinkRow], ends: Callable[[LinkRow], Sequence[str]]) -> list[str]:
    """The names at one side, each as near to its rules as may be."""
    places: dict[str, list[int]] = {}
    for rule in rules:
        for name in ends(rule):
            places.setdefault(name, []).append(rule.number)
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


def _rule(axis: Axes, rule: LinkRow, y: float) -> None:
    """The words of the rule, as they are written: its name, when, and what is done."""
    from matplotlib.patches import Rectangle

    axis.add_patch(Rectangle((3.8, y - 0.42), 5.3, 0.84, fc=PAPER, ec=GRID, lw=1.2, zorder=3))
    head = f"{rule.title}: {rule.when}" if rule.title else rule.when
    for line, up, color, weight in ((head, 0.16, INK, "normal"), (rule.does, -0.2, OUT, "bold")):
        axis.text(
            6.45, y + up, _short(line), fontsize=8.5, color=color, ha="center", va="center", zorder=4, weight=weight
        )  # fmt: skip


def _short(text: str) -> str:
    return text if len(text) <= 68 else text[:67] + "…"
