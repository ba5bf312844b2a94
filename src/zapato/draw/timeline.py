"""The timeline of a rehearsal: lanes of levels and curves over virtual time, verdicts above."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from zapato.draw.figure import FEEL, GRID, INK, INTO, NET, OUT, WRONG, new_figure
from zapato.draw.screens import draw_pictures, pictures
from zapato.lang.senml import unpacked
from zapato.record import record

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from zapato.simulator import Crash, Expectation, Rehearsal
    from zapato.simulator.result import Rows

NAME = 26
"""Letters of a lane's name; of a longer one the middle goes."""
SHOWN_FAILURES = 3
"""Failed expectations whose words stand in the picture."""
BANDS = {"power": ("#3d3d3d", "xx"), "network": (NET, "//"), "broker": ("#c9a227", "..")}
"""How an outage is drawn: told apart in grey, too."""
UNITS = ((2 * 3600, 3600, "h"), (180, 60, "min"), (0, 1, "s"))


@record(frozen=True)
class Lane:
    """One line of the picture: a name, its samples (s, value), and how it is drawn."""

    name: str
    samples: list[tuple[float, Any]]
    curve: bool
    color: str


def lanes(result: Rehearsal) -> list[Lane]:
    """What the device's outputs were at their pins, what else it published, and the network, as lanes: the timeline as data."""
    history: dict[str, list[tuple[float, Any]]] = {}
    network: list[tuple[float, Any]] = []
    for r in result.records:
        if r["what"] == "mqtt" and r["retain"]:
            _, _, name = r["name"].split("/", 2)
            if name == "state":
                network.append((r["t"] / 1000, r["value"] == "online"))
            else:
                history.setdefault(name.replace("/", "."), []).append(
                    (r["t"] / 1000, unpacked(json.loads(r["value"])))
                )
    history |= {name: list(samples) for name, samples in result.outputs.items() if samples}
    made = [_lane(name, samples) for name, samples in history.items()]
    made = [lane for lane in made if lane and len({value for _, value in lane.samples}) > 1]
    made.sort(key=lambda lane: (lane.curve, lane.color != OUT, lane.name))
    return [Lane("broker sees it", [(0.0, False), *network], False, NET), *made] if network else made


def _lane(name: str, samples: list[tuple[float, Any]]) -> Lane | None:
    values = [value for _, value in samples if value is not None]
    if values and all(isinstance(value, bool) for value in values):
        return Lane(name, samples, False, OUT if name.endswith(".on") else INTO)
    if values and all(isinstance(value, (int, float)) for value in values):
        return Lane(name, samples, True, FEEL)
    return None


def scale_of(lasts: float) -> tuple[float, str]:
    """Seconds of one unit of the time axis, and its word."""
    return next((size, word) for limit, size, word in UNITS if lasts >= limit)


def timeline(result: Rehearsal) -> Figure:
    """The timeline as a figure, 1280 dots wide."""
    rows = lanes(result)
    scale, unit = scale_of(result.lasts)
    failed = [
        expectation
        for expectation in result.expectations
        if expectation.passed is False and expectation.at is not None
    ]
    weights = [1.1 + 0.75 * min(len(failed), SHOWN_FAILURES), *(2.2 if lane.curve else 0.8 for lane in rows)]
    screens = pictures(result)
    tall = 1.6 + 0.55 * sum(weights)
    figure = new_figure(12.8, min(20.0, tall + 1.5 * len(screens)))
    upper: Any = figure
    if screens:
        halves: Any = figure.subfigures(2, 1, height_ratios=(tall, 1.5 * len(screens)))
        upper, lower = halves[0], halves[1]
        for one, (name, shown) in zip(
            lower.subplots(len(screens), 1, squeeze=False)[:, 0], screens.items(), strict=True
        ):
            draw_pictures(one, name, shown)
    axes: Any = upper.subplots(len(rows) + 1, 1, sharex=True, height_ratios=weights, squeeze=False)[:, 0]
    draw_verdicts(axes[0], result.expectations, result.lasts, scale)
    if result.crash:
        _crash(axes[0], result.crash, scale)
    for axis, lane in zip(axes[1:], rows, strict=True):
        draw_lane(axis, lane, result.lasts, scale)
    for axis in axes:
        draw_acts(axis, result.records, scale)
        draw_outages(axis, result.outages, result.lasts, scale, named=axis is axes[0])
    axes[-1].set_xlim(0, result.lasts / scale)
    axes[-1].set_xlabel(f"virtual time, {unit}", color=INK)
    word = "every expectation held" if result.passed else "not every expectation held"
    figure.suptitle(f"{result.device}: {result.title} — {word}", x=0.01, ha="left", color=INK, fontsize=13)
    return figure


def _plain(axis: Axes, name: str) -> None:
    for side in ("top", "right", "left"):
        axis.spines[side].set_visible(False)
    axis.spines["bottom"].set_color(GRID)
    axis.tick_params(colors=INK, length=3, labelsize=9)
    shown = name if len(name) <= NAME else f"{name[: NAME // 2]}…{name[-NAME // 2 :]}"
    axis.set_ylabel(shown, rotation=0, ha="right", va="center", color=INK, fontsize=10)


def draw_verdicts(axis: Axes, expectations: Sequence[Expectation], lasts: float, scale: float) -> None:
    """A mark for each verdict, and what failed in words."""
    _plain(axis, "expected")
    axis.set_ylim(-1, 1)
    axis.set_yticks([])
    for passed, at in ((e.passed, e.at) for e in expectations if e.at is not None):
        style = {"marker": "o", "color": FEEL} if passed else {"marker": "X", "color": WRONG}
        axis.plot([at / scale], [0], markersize=7 if passed else 9, clip_on=False, **style)  # type: ignore[arg-type]
    _failures(axis, [e for e in expectations if e.passed is False and e.at is not None], lasts, scale)


def _crash(axis: Axes, crash: Crash, scale: float) -> None:
    axis.plot([crash.at / scale], [0], marker="X", color=WRONG, markersize=13, clip_on=False)
    axis.annotate("crash", (crash.at / scale, 0.3), color=WRONG, fontsize=10)


def _failures(axis: Axes, failed: Sequence[Expectation], lasts: float, scale: float) -> None:
    """What failed, and what was seen, beside its mark; the rest is counted."""
    rows = failed[:SHOWN_FAILURES]
    axis.set_ylim(-1 - 1.5 * len(rows), 1)
    for number, row in enumerate(rows):
        seen = ", ".join(f"{name} = {value}" for name, value in row.seen.items()) or "nothing like it"
        more = (
            f"   and {len(failed) - SHOWN_FAILURES} more"
            if number == SHOWN_FAILURES - 1 and len(failed) > SHOWN_FAILURES
            else ""
        )
        text = f"not {row.text}; seen: {seen}"
        text = (text if len(text) <= 96 else text[:95] + "…") + more
        late = (row.at or 0.0) > lasts / 2
        axis.annotate(
            text, ((row.at or 0.0) / scale, 0), xytext=(-8 if late else 8, -14 - 15 * number), textcoords="offset points",
            ha="right" if late else "left", va="center", fontsize=8.5, color=WRONG,
        )  # fmt: skip


def draw_outages(
    axis: Axes, outages: Iterable[tuple[str, float, float]], lasts: float, scale: float, *, named: bool
) -> None:
    """Power cuts and outages of network and broker as bands over all lanes; short ones stay visible."""
    least = lasts / 400
    for what, since, to in outages:
        color, hatch = BANDS[what]
        end = max(to, since + least)
        axis.axvspan(
            since / scale,
            end / scale,
            facecolor=color,
            alpha=0.16,
            hatch=hatch,
            edgecolor=color,
            linewidth=0,
            zorder=0,
        )
        if named:
            axis.annotate(
                what,
                ((since + end) / 2 / scale, 0.92),
                fontsize=8,
                color=INK,
                ha="center",
                va="top",
                annotation_clip=False,
            )


def draw_acts(axis: Axes, records: Rows, scale: float) -> None:
    """A fine line where something was done to the world."""
    for r in records:
        if r["what"] == "act":
            axis.axvline(r["t"] / 1000 / scale, color=GRID, linewidth=1, zorder=0)


def draw_lane(axis: Axes, lane: Lane, lasts: float, scale: float) -> None:
    """One lane: a curve, or a level that is filled while it is on."""
    _plain(axis, lane.name)
    times = [t / scale for t, _ in lane.samples] + [lasts / scale]
    if lane.curve:
        values = [float("nan") if v is None else float(v) for _, v in lane.samples]
        axis.plot(
            times, [*values, values[-1]], color=lane.color, linewidth=1.6, drawstyle="steps-post"
        )  # a value holds until another is told
        axis.grid(axis="y", color=GRID, linewidth=0.6)
        return
    levels = [float(bool(v)) for _, v in lane.samples]
    levels.append(levels[-1])
    axis.fill_between(times, levels, step="post", color=lane.color, alpha=0.25, linewidth=0)
    axis.step(times, levels, where="post", color=lane.color, linewidth=1.6)
    axis.set_ylim(-0.15, 1.25)
    axis.set_yticks([0, 1], ["off", "on"] if lane.color == OUT else ["no", "yes"])
