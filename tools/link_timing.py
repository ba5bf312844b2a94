"""Draws docs/screenshots/link-timing.png: what each timing key of a link does, from the rehearsals of docs/links.md."""

from __future__ import annotations

import re
import tempfile
from pathlib import Path
from typing import Any

import zapato
from zapato.draw.figure import GRID, INK, OUT, new_figure, save
from zapato.draw.timeline import Lane, lanes

ROOT = Path(__file__).parents[1]
BLOCKS = re.findall(r"```toml\n(.*?)```", (ROOT / "docs" / "links.md").read_text("utf-8"), re.DOTALL)
PANELS: tuple[tuple[str, str, tuple[str, ...], tuple[float, float], float, str], ...] = (
    ("back", "when = room.temperature > 30, back = 2: toggles", ("room.temperature", "fan.on"), (0, 300), 60, "min"),
    ("held", "when = not door.closed, held = 2min", ("door.closed", "alarm.on"), (0, 300), 60, "min"),
    ("after and for", "when = bell.pressed, after = 10s, for = 1min", ("bell.down", "lamp.on"), (0, 100), 1, "s"),
    ("every and times", "when = call.pressed, every = 2s, times = 10, for = 1s", ("call.down", "signal.on"), (0, 30), 1, "s"),
    ("at", "at = sunset - 10min; at = 23:00 mon-thu, sun; at = 01:00 sat, sun", ("porch.on",), (0, 31 * 3600), 3600, "h after Saturday, 18:00"),
    ("tally", "tally of = pump.on, counts = time, daily; from 600 s on the pump is stopped", ("pump.on", "pump_time.today"), (0, 2400), 60, "min after 23:30"),
    ("guard and limits", "guard when = oven.temperature > 60, back = 10; the heater with shortest_off = 1min", ("oven.temperature", "hot.tripped", "heater.on"), (0, 240), 60, "min"),
)  # fmt: skip
"""Example, title, its lanes from top to bottom, the time shown in s, the scale, and its words."""


def rehearsed(name: str) -> dict[str, Lane]:
    """The lanes of one example."""
    texts = {text[2 : text.index("\n")]: text for text in BLOCKS[1:]}
    with tempfile.TemporaryDirectory() as folder:
        device, script = Path(folder) / "lodge.toml", Path(folder) / "day.toml"
        device.write_text(BLOCKS[0] + texts[name])
        script.write_text(texts[f"{name}, rehearsed"])
        return {lane.name: lane for lane in lanes(zapato.rehearse(device, script))}


def draw(axis: Any, lane: Lane, scale: float, last: bool) -> None:
    times = [t / scale for t, _ in lane.samples]
    values = [float("nan") if v is None else float(v) for _, v in lane.samples]
    times.append(1e9)
    values.append(values[-1])
    if lane.curve:
        axis.step(times, values, where="post", color=lane.color, linewidth=1.6)
        axis.margins(y=0.2)
    else:
        axis.fill_between(times, values, step="post", color=lane.color, alpha=0.25, linewidth=0)
        axis.step(times, values, where="post", color=lane.color, linewidth=1.6)
        axis.set_ylim(-0.15, 1.25)
        axis.set_yticks([0, 1], ["off", "on"] if lane.color == OUT else ["no", "yes"])
    for side in ("top", "right", "left"):
        axis.spines[side].set_visible(False)
    axis.spines["bottom"].set_color(GRID)
    axis.tick_params(colors=INK, length=3, labelsize=8, labelbottom=last)
    axis.set_ylabel(lane.name, rotation=0, ha="right", va="center", color=INK, fontsize=9)


def main() -> None:
    figure = new_figure(12.8, 11.5)
    rows: Any = figure.subfigures(len(PANELS), 1, height_ratios=[len(panel[2]) + 0.9 for panel in PANELS])
    for part, (name, title, shown, (begin, end), scale, words) in zip(rows, PANELS, strict=True):
        found = rehearsed(name)
        axes = part.subplots(len(shown), 1, sharex=True, squeeze=False)[:, 0]
        for axis, lane in zip(axes, shown, strict=True):
            draw(axis, found[lane], scale, lane == shown[-1])
        axes[-1].set_xlim(begin / scale, end / scale)
        axes[-1].set_xlabel(words, color=INK, fontsize=8, labelpad=1)
        part.suptitle(title, x=0.01, ha="left", color=INK, fontsize=10, fontweight="bold")
    save(figure, ROOT / "docs" / "screenshots" / "link-timing.png")


if __name__ == "__main__":
    main()
