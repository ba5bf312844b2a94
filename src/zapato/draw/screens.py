"""What displays showed in a rehearsal, as pictures with their times."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from zapato.draw.figure import INK

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from zapato.simulator import Rehearsal

WIDTH, HEIGHT = 128, 64
MOST = 5
"""Pictures in a row: the first, the last, and others in between."""


def pictures(result: Rehearsal) -> dict[str, list[tuple[float, list[list[int]]]]]:
    """By the display's name, each picture that stood: its moment (s), and rows of 0 and 1."""
    frames: dict[str, list[tuple[float, list[list[int]]]]] = {}
    for row in result.records:
        if row["what"] == "screen":
            memory = bytes.fromhex(str(row["value"]))
            points = [[memory[y // 8 * WIDTH + x] >> y % 8 & 1 for x in range(WIDTH)] for y in range(HEIGHT)]
            frames.setdefault(str(row["name"]), []).append((row["t"] / 1000, points))
    return frames


def draw_pictures(axis: Axes, name: str, shown: list[tuple[float, list[list[int]]]]) -> None:
    """Some of a display's pictures side by side."""
    axis.axis("off")
    axis.text(-0.012, 0.5, name, transform=axis.transAxes, ha="right", va="center", color=INK, fontsize=10)
    few = (
        shown
        if len(shown) <= MOST
        else [shown[round(n * (len(shown) - 1) / (MOST - 1))] for n in range(MOST)]
    )
    for number, (at, points) in enumerate(few):
        inset: Any = axis.inset_axes((number / MOST, 0.0, 0.96 / MOST, 0.88))
        inset.imshow(points, cmap="gray", vmin=0, vmax=1, interpolation="nearest")
        inset.set_xticks([])
        inset.set_yticks([])
        inset.set_title(f"{at:.1f} s" if at < 600 else f"{at / 3600:.2f} h", fontsize=8, color=INK, pad=2)
