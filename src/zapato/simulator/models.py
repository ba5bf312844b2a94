"""The world's models at work: rooms that get warm, tanks that fill."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any

from zapato.design.models import Model
from zapato.simulator.clock import Clock

MINUTE = 60_000


class Running:
    """A model on its way: between two things that happen what works on it stays as it is, so each step is exact."""

    def __init__(
        self,
        model: Model,
        clock: Clock,
        effects: Sequence[tuple[Callable[[], Any], float]],
        put: Callable[[float], None],
    ) -> None:
        self.model, self.clock, self.effects, self._put = model, clock, effects, put
        self.value, self.at = float(model.start), clock.now
        self.sum = 0.0
        put(self.value)
        clock.watchers.append(self.watch)

    def watch(self) -> None:
        """After everything that happens."""
        ms = self.clock.now - self.at
        if ms:
            self.at = self.clock.now
            self.value = self._held(self._after(ms))
            self._put(self.value)
        self.sum = sum(effect * float(read() or 0) for read, effect in self.effects)

    def _after(self, ms: int) -> float:
        model = self.model
        if model.like == "tank":
            return self.value + self.sum * ms / MINUTE
        end = model.outside + self.sum
        return end + (self.value - end) * math.exp(-ms / model.constant)

    def _held(self, value: float) -> float:
        low, high = self.model.low, self.model.high
        value = value if low is None else max(low, value)
        return value if high is None else min(high, value)
