"""The trace: everything that happened, in order."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from zapato.simulator.clock import Clock


class Trace:
    """Rows of t (ms), what, name, value; `on_row` hears of each as it comes. What runs for days does not keep them."""

    def __init__(
        self, clock: Clock, on_row: Callable[[Mapping[str, Any]], None] | None = None, keeps: bool = True
    ) -> None:
        self._clock, self._on_row, self._keeps = clock, on_row, keeps
        self.rows: list[dict[str, Any]] = []

    def log(self, what: str, name: str, value: object, **more: object) -> None:
        """Add a row at this moment."""
        row: dict[str, Any] = {"t": self._clock.now, "what": what, "name": name, "value": value, **more}
        if self._keeps:
            self.rows.append(row)
        if self._on_row:
            self._on_row(row)
