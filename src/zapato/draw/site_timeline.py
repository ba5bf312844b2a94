"""The timeline of a site's rehearsal: the lanes of each device together, what its steps are about numbered above."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from zapato.draw.figure import GRID, INK, PAPER, new_figure
from zapato.draw.timeline import (
    BANDS,
    Lane,
    draw_acts,
    draw_lane,
    draw_outages,
    draw_verdicts,
    lanes,
    scale_of,
)

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from zapato.simulator import SiteRehearsal

NOTE = 0.24
"""Height of a line of the notes below, inches."""
MOST = 30
"""Lanes at the most; what more there is, is counted."""
SHADES = (PAPER, "#f3f1ec")
"""Behind the lanes of one device, and of the next."""


def site_lanes(result: SiteRehearsal) -> list[tuple[str, Lane]]:
    """Device and lane of what the steps are about and what devices hear of each other: the timeline as data."""
    named_lanes: list[tuple[str, Lane]] = []
    for name, device in result.devices.items():
        own = [lane for lane in lanes(device) if f"{name}.{lane.name}" in result.shown]
        named_lanes += [(name, lane) for lane in own]
    return named_lanes


def site_timeline(result: SiteRehearsal) -> Figure:
    """The timeline as a figure, 1280 dots wide."""
    rows = site_lanes(result)
    left_out, rows = max(0, len(rows) - MOST), rows[:MOST]
    scale, unit = scale_of(result.lasts)
    notes = [moment for moment in result.story if moment.note]
    weights = [1.1, *(2.2 if lane.curve else 0.8 for _, lane in rows)]
    below = NOTE * len(notes) + 0.3
    above = 1.2 + 0.55 * sum(weights) + 0.22 * len({name for name, _ in rows})
    figure: Any = new_figure(12.8, min(22.0, above + below))
    upper, lower = figure.subfigures(2, 1, height_ratios=(above, below))
    axes: Any = upper.subplots(len(rows) + 1, 1, sharex=True, height_ratios=weights, squeeze=False)[:, 0]
    draw_verdicts(axes[0], result.expectations, result.lasts, scale)
    for axis, (_, lane) in zip(axes[1:], rows, strict=True):
        draw_lane(axis, lane, result.lasts, scale)
    _devices(axes[1:], [name for name, _ in rows])
    for axis, name in zip(axes, ["", *(name for name, _ in rows)], strict=True):
        draw_acts(axis, result.records, scale)
        own = [outage[1:] for outage in result.outages if outage[0] in ("", name)]
        draw_outages(axis, own, result.lasts, scale, named=False)
    for number, moment in enumerate(notes, 1):
        _number(axes[0], number, moment.t / scale)
    axes[-1].set_xlim(0, result.lasts / scale)
    axes[-1].set_xlabel(f"virtual time, {unit}", color=INK)
    word = "every expectation held" if result.passed else "not every expectation held"
    figure.suptitle(f"{result.site}: {result.title} — {word}", x=0.01, ha="left", color=INK, fontsize=13)
    _notes(lower, [moment.note for moment in notes], left_out, {outage[1] for outage in result.outages})
    return figure


def _devices(axes: Any, names: list[str]) -> None:
    """Shade the lanes device by device, and write each device's name once."""
    shade = 0
    for at, (axis, name) in enumerate(zip(axes, names, strict=True)):
        first = at == 0 or names[at - 1] != name
        shade = shade ^ 1 if first else shade
        axis.set_facecolor(SHADES[shade])
        if first:
            axis.set_title(name, loc="left", fontsize=9.5, weight="bold", color=INK, pad=3)


def _number(axis: Axes, number: int, at: float) -> None:
    axis.annotate(
        str(number), (at, 0.75), ha="center", va="center", fontsize=8, color=INK, annotation_clip=False,
        bbox={"boxstyle": "circle,pad=0.2", "fc": PAPER, "ec": GRID},
    )  # fmt: skip


def _notes(figure: Any, notes: list[str], left_out: int, outages: set[str]) -> None:
    from matplotlib.patches import Patch

    lines = [f"{number}  {note}" for number, note in enumerate(notes, 1)]
    if left_out:
        lines.append(f"and {left_out} more lanes, which the trace has")
    figure.text(0.02, 0.96, "\n".join(lines), fontsize=9, color=INK, va="top", linespacing=1.45)
    bands = [
        Patch(facecolor=color, alpha=0.3, hatch=hatch, label=f"{what} away")
        for what, (color, hatch) in BANDS.items()
        if what in outages
    ]
    if bands:
        figure.legend(handles=bands, loc="upper right", frameon=False, fontsize=9, labelcolor=INK)
