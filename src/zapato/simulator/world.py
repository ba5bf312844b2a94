"""The quantities around a device: what its sensors feel."""

from __future__ import annotations

from collections.abc import Hashable
from typing import Any

from zapato.simulator.clock import Clock


class FeltQuantity:
    """A value that may be on its way to another one."""

    def __init__(self, clock: Clock) -> None:
        self._clock = clock
        self._way: tuple[int, Any, int, Any] | None = None

    def set(self, value: Any, over: int = 0) -> None:
        """Go evenly to `value` within `over` ms."""
        now = self._clock.now
        self._way = now, self.get(), now + over, value

    def get(self) -> Any:
        """The value at this moment; None where nothing was ever set."""
        if self._way is None:
            return None
        begin, first, end, last = self._way
        now = self._clock.now
        if now >= end or first is None or not isinstance(last, (int, float)):
            return last
        return first + (last - first) * (now - begin) / (end - begin)


class Quantities:
    """Every quantity by its key, made when it is first asked for."""

    def __init__(self, clock: Clock) -> None:
        self._clock = clock
        self._all: dict[Hashable, FeltQuantity] = {}

    def __getitem__(self, key: Hashable) -> FeltQuantity:
        if key not in self._all:
            self._all[key] = FeltQuantity(self._clock)
        return self._all[key]
