"""Pulses of a meter at a pin: as many as it is told, whatever the simulator's ms make of their edges."""

from __future__ import annotations

from typing import Any

from zapato.parts.simulation import Stimulus, World
from zapato.record import record

FASTEST = 500.0
"""Pulses a second, at the most: both edges of one come at whole ms."""


class Pulses:
    """A line that goes up and down.

    Edges come at whole ms, but the next one is reckoned from where the last one belongs, so that none is lost or won.
    """

    def __init__(self, world: World, gpio: int) -> None:
        self._world, self._gpio = world, gpio
        self._rate, self._level = 0.0, 1
        self._since, self._done = 0.0, 0.0
        """When this half of a pulse began or the rate changed, ms, and the share of it that was over then."""
        self._turn = 0

    def give(self, rate: float) -> None:
        """From now on so many pulses a second; what was begun of one is kept."""
        now = float(self._world.now)
        self._done = min(1.0, self._done + (now - self._since) * self._rate / 500)
        self._since, self._rate = now, rate
        self._turn += 1
        self._next()

    def _next(self) -> None:
        if self._rate > 0:
            when, turn = self._since + (1 - self._done) * 500 / self._rate, self._turn
            self._world.after(max(round(when) - self._world.now, 0), lambda: self._edge(turn, when))

    def _edge(self, turn: int, when: float) -> None:
        if turn == self._turn:
            self._level = 1 - self._level
            self._since, self._done = when, 0.0
            self._world.drive(self._gpio, self._level)
            self._next()


@record(eq=False)
class Rate(Stimulus):
    """Pulses a second at a pin."""

    gpio: int

    def put(self, world: World, value: Any, over: int = 0) -> None:
        world.keep(("pulses", self.gpio), lambda: Pulses(world, self.gpio)).give(value or 0)
