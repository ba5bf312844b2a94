"""Putting chosen pins into the device file, comments and layout kept."""

from __future__ import annotations

from typing import Any

from zapato.fitting.solve import Fit
from zapato.lang.edit import set_keys


def write_pins(result: Fit) -> int:
    """Replace each "auto" of the device file by its pin; gives how many. Raises Unwritable.

    An "auto" that came with a piece is answered in the device file, which wins over the piece.
    """
    tables: dict[tuple[str, str], dict[str, Any]] = {}
    for placement in result.placements:
        tables.setdefault((result.design.parts[placement.part].kind.name, placement.part), {})[
            placement.field
        ] = placement.written
    if tables:
        set_keys(result.design.document.source, tables)
    return len(result.placements)
