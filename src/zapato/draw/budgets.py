"""The budgets as one picture: every figure against its limit, and the voltage along the strips."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zapato.budgets.row import CLOSE, BudgetRow
from zapato.budgets.strips import DROP, strips
from zapato.budgets.whole import Budget
from zapato.draw.figure import FEEL, GRID, INK, INTO, OUT, WRONG, new_figure
from zapato.lang.units import digits

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

COLORS = {"ok": FEEL, "close": "#c9a227", "over": WRONG}
HATCHES = {"ok": "", "close": "//", "over": "xx"}
MOST = 1.6
"""Shares beyond this are cut off, and told."""
ROW = 0.27


def budget_chart(budget: Budget) -> Figure:
    """A bar for each figure that has a limit: how much of it is taken."""
    held = [row for row in budget.rows if row.limit]
    chains = strips(budget.design)
    figure = new_figure(12.8, max(4.0, 1.9 + ROW * max(4, len(held))) + (2.6 if chains else 0))
    if chains:
        bars, volts = figure.subplots(2, 1, height_ratios=(max(4, len(held)) * ROW + 1.2, 2.4))
        _strips(volts, budget)
    else:
        bars = figure.subplots()
    _bars(bars, held)
    title = f"{budget.design.label or budget.design.name}: what it takes of what there is"
    figure.suptitle(
        title if len(title) < 110 else f"{title[:109]}…",
        x=0.01,
        ha="left",
        fontsize=14,
        weight="bold",
        color=INK,
    )
    return figure


def shown(value: float, unit: str) -> str:
    """A figure with its unit, in a size that people read."""
    if unit == "B":
        return f"{value / 1024:.1f} KiB"
    if unit == "/":
        return f"{value:.0%}"
    if not unit:
        return f"{value:g}"
    for scale, prefix in (
        (1e6, "M"),
        (1e3, "k"),
        (1, ""),
        (1e-3, "m"),
        (1e-6, "u"),
        (1e-9, "n"),
        (1e-12, "p"),
    ):
        if abs(value) >= scale * 0.9995 and unit in ("A", "V", "s", "ohm", "F", "W"):
            return f"{digits(value / scale)} {prefix}{unit}"
    return f"{digits(value)} {unit}"


def _bars(axis: Axes, held: list[BudgetRow]) -> None:
    for at, row in enumerate(held):
        taken = min(row.share, MOST)
        axis.barh(
            -at,
            taken,
            height=0.62,
            color=COLORS[row.verdict],
            hatch=HATCHES[row.verdict],
            edgecolor=INK,
            linewidth=0.6,
        )
        more = " …" if row.share > MOST else ""
        word = ", at least" if row.least else " of"
        text = f"{shown(row.value, row.unit)}{word} {shown(row.limit or 0, row.unit)}{more}"
        axis.text(taken + 0.015, -at, text, va="center", fontsize=9, color=INK)
    names = [f"{row.of}: {row.what}" for row in held]
    axis.set_yticks(
        [-at for at in range(len(held))],
        [name if len(name) < 46 else name[:45] + "…" for name in names],
        fontsize=9,
    )
    axis.axvline(1, color=WRONG, lw=1.4)
    axis.axvline(CLOSE, color=GRID, lw=1, ls="--")
    axis.set_xlim(0, max([1.3, *(min(row.share, MOST) + 0.35 for row in held)]))
    axis.set_ylim(-len(held) + 0.3, 0.7)
    axis.set_xticks([0, 0.5, CLOSE, 1], ["0", "50 %", "80 %", "the limit"], fontsize=9)
    for side in ("top", "right"):
        axis.spines[side].set_visible(False)


def _strips(axis: Axes, budget: Budget) -> None:
    styles = ("-", "--", "-.", ":")
    for number, strip in enumerate(strips(budget.design)):
        length = strip.part.get("length", len(strip.volts) / 60)
        step = length / len(strip.volts)
        axis.plot(
            [at * step for at in range(len(strip.volts))], [100 * v / strip.supply for v in strip.volts],
            color=(INTO, OUT, FEEL, INK)[number % 4], ls=styles[number % 4], lw=2, label=f"{strip.part.name}, {strip.amps:.1f} A",
        )  # fmt: skip
    axis.axhline(100 * (1 - DROP), color=WRONG, lw=1.2)
    axis.set_xlabel("metres along the strip", fontsize=9)
    axis.set_ylabel("% of its voltage", fontsize=9)
    axis.legend(fontsize=8, frameon=False, loc="lower left")
    axis.grid(color=GRID, lw=0.6)
