"""Pulses of a meter at a pin: as many as it is told, whatever the stage's ms make of their edges."""

from __future__ import annotations

from collections.abc import Callable

from zapato.stage.clock import Clock


class Pulses:
    """A line that goes up and down; `change` takes each level.

    Edges come at whole ms, but the next one is reckoned from where the last one belongs, so that none is lost or won.
    """

    def __init__(self, clock: Clock, change: Callable[[int], object]) -> None:
        self._clock, self._change = clock, change
        self._rate, self._level = 0.0, 1
        self._since, self._done = 0.0, 0.0
        """When this half of a pulse began or the rate changed, ms, and the share of it that was over then."""
        self._turn = 0

    def give(self, rate: float) -> None:
        """From now on so many pulses a second; what was begun of one is kept."""
        now = float(self._clock.now)
        self._done = min(1.0, self._done + (now - self._since) * self._rate / 500)
        self._since, self._rate = now, rate
        self._turn += 1
        self._next()

    def _next(self) -> None:
        if self._rate > 0:
            when, turn = self._since + (1 - self._done) * 500 / self._rate, self._turn
            self._clock.at(max(round(when), self._clock.now), lambda: self._edge(turn, when))

    def _edge(self, turn: int, when: float) -> None:
        if turn == self._turn:
            self._level = 1 - self._level
            self._since, self._done = when, 0.0
            self._change(self._level)
            self._next()
