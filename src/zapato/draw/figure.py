"""What all pictures share: size, fonts, colours, and writing them."""

from __future__ import annotations

import io
from pathlib import Path
from typing import TYPE_CHECKING

from zapato.errors import ZapatoError
from zapato.lang.files import write

if TYPE_CHECKING:
    from matplotlib.figure import Figure

INK, GRID, PAPER = "#22303a", "#d9dfe3", "#ffffff"
OUT, INTO, FEEL, NET, WRONG = "#c2571a", "#2d6a8e", "#4f7a3a", "#7a5c99", "#b3261e"
"""Colours: what the device drives, what it reads, what it measures, the network, what failed."""

SUFFIXES = (".png", ".svg", ".pdf")


def new_figure(width: float = 12.8, height: float = 8.0) -> Figure:
    """An empty figure; 100 dots per inch, so 12.8 is 1280 wide."""
    from matplotlib.figure import Figure

    return Figure(figsize=(width, height), dpi=100, facecolor=PAPER, layout="constrained")


def check_name(path: Path | str) -> Path:
    """The path, where its ending is one of a picture's. Raises ZapatoError."""
    path = Path(path)
    if path.suffix.lower() not in SUFFIXES:
        raise ZapatoError(f"{path.name}: a picture ends in {', '.join(SUFFIXES)}")
    return path


def save(figure: Figure, path: Path | str) -> None:
    """Write the figure to a .png, .svg or .pdf. Raises Unwritable, ZapatoError for another ending."""
    path = check_name(path)
    held = io.BytesIO()
    figure.savefig(held, format=path.suffix[1:].lower())
    write(path, held.getvalue())
