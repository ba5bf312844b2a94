"""The trace: everything that happened, in order."""

from __future__ import annotations

from typing import Any

from zapato.stage.clock import Clock


class Trace:
    """Rows of t (ms), what, name, value."""

    def __init__(self, clock: Clock) -> None:
        self._clock = clock
        self.rows: list[dict[str, Any]] = []

    def log(self, what: str, name: str, value: object, **more: object) -> None:
        """Add a row at this moment."""
        self.rows.append({"t": self._clock.now, "what": what, "name": name, "value": value, **more})
