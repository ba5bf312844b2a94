"""What microphones hear: a tone as loud as the world says, or a recording."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

from zapato.simulator.world import FeltQuantity

if TYPE_CHECKING:
    from zapato.parts.sound.part import Recording
    from zapato.simulator.clock import Clock

TONE = 440.0
SILENCE = -99.0


class Sounding:
    """The sound at one microphone; `loudness` in dB against a tone that fills the range."""

    def __init__(self, clock: Clock) -> None:
        self.clock, self.loudness = clock, FeltQuantity(clock)
        self._played: Recording | None = None
        self._begun = 0.0

    def play(self, recording: Recording) -> None:
        """From now on, once."""
        self._played, self._begun = recording, self.now

    def put(self, name: str, value: Any, over: int = 0) -> None:
        """A recording "plays", or the "loudness" is another."""
        self.play(value) if name == "plays" else self.loudness.set(value, over)

    @property
    def now(self) -> float:
        return self.clock.now / 1000 + self.clock.micro / 1e6

    def at(self, moment: float) -> float:
        """From -1 to 1, at this moment in s."""
        if self._played:
            number = int((moment - self._begun) * self._played.rate)
            if number < len(self._played.samples):
                return self._played.samples[number] / 32768
        loud = self.loudness.get()
        return 10 ** ((SILENCE if loud is None else loud) / 20) * math.sin(2 * math.pi * TONE * moment)
