"""What properties had over a stretch of time, one panel each."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Any, Protocol

from zapato.draw.figure import FEEL, GRID, INK, INTO, new_figure

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure


class Stretch(Protocol):
    """A stretch of a series: when (s since 1970), its value, the lowest and the highest."""

    @property
    def at(self) -> float: ...
    @property
    def value(self) -> Any: ...
    @property
    def low(self) -> Any: ...
    @property
    def high(self) -> Any: ...


def history_chart(series: Mapping[str, Sequence[Stretch]], since: float, until: float) -> Figure:
    """Numbers as lines with their range, truths as steps, texts as marks; in local time."""
    from matplotlib.dates import AutoDateLocator, ConciseDateFormatter

    figure = new_figure(12.8, max(3.0, min(8.0, 1.2 + 1.6 * len(series))))
    axes: Any = figure.subplots(len(series), 1, sharex=True, squeeze=False)[:, 0]
    for (name, points), one in zip(series.items(), axes, strict=True):
        _panel(one, name, points, until)
    last: Axes = axes[-1]
    last.set_xlim(_day(since), _day(until))  # type: ignore[arg-type]
    locator = AutoDateLocator()
    last.xaxis.set_major_locator(locator)
    last.xaxis.set_major_formatter(ConciseDateFormatter(locator))
    return figure


def _panel(axes: Axes, name: str, points: Sequence[Stretch], until: float) -> None:
    axes.set_title(name, loc="left", fontsize=10, color=INK)
    axes.grid(color=GRID, linewidth=0.6)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    truths = [p for p in points if isinstance(p.value, bool)]
    numbers = [p for p in points if isinstance(p.value, (int, float)) and not isinstance(p.value, bool)]
    if truths and not numbers:
        x, y = _held(truths, until)
        axes.step(x, y, where="post", color=FEEL, linewidth=1.4)  # type: ignore[arg-type]
        axes.fill_between(x, y, step="post", color=FEEL, alpha=0.25)  # type: ignore[arg-type]
        axes.set_yticks([0, 1], ["off", "on"])
        axes.set_ylim(-0.1, 1.15)
    elif numbers:
        x, y = _held(numbers, until)
        axes.plot(x, y, color=INTO, linewidth=1.4, drawstyle="steps-post")  # type: ignore[arg-type]
        times = [_day(p.at) for p in numbers]
        axes.fill_between(times, [p.low for p in numbers], [p.high for p in numbers], color=INTO, alpha=0.2)  # type: ignore[arg-type]
    else:
        axes.set_yticks([])
        shown = (
            "nothing was said"
            if not points
            else f"{len(points)} texts, the last: {str(points[-1].value)[:60]}"
        )
        axes.text(0.5, 0.5, shown, transform=axes.transAxes, ha="center", va="center", color=INK)


def _held(points: Sequence[Stretch], until: float) -> tuple[list[datetime], list[float]]:
    """Times and values; the last value holds until the end."""
    return [*(_day(p.at) for p in points), _day(until)], [
        *(float(p.value) for p in points),
        float(points[-1].value),
    ]


def _day(at: float) -> datetime:
    return datetime.fromtimestamp(at)
