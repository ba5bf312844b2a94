"""Devices of a site, alive at a broker from the stage, with somebody about: doors open, buttons are pressed, it gets warmer."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from random import Random
from typing import Any

from zapato.design import Design
from zapato.errors import Refused
from zapato.stage.live_run import Live

PACE = 2.0
"""Seconds between two things that happen, on average."""
GESTURES = ("press", "tap", "start", "turn")
"""Words of gestures that may just happen."""


class Alive:
    """Every design's program in real time at this broker; `tell` hears what somebody did."""

    def __init__(
        self,
        designs: Sequence[Design],
        broker: tuple[str, int],
        *,
        seed: int = 1,
        tell: Callable[[str], None] = lambda text: None,
    ) -> None:
        self.lives = [Live(design, broker=broker) for design in designs]
        self._tell, self._random, self._over = tell, Random(seed), threading.Event()
        self._world = {
            f"{live.design.name}.{key}": value for live in self.lives for key, value in live.script.world
        }
        self._thread = threading.Thread(target=self._happens, daemon=True)

    def start(self) -> None:
        """Power up."""
        for live in self.lives:
            live.start()
        self._thread.start()

    def stop(self) -> None:
        """Pull every plug."""
        self._over.set()
        if self._thread.is_alive():
            self._thread.join(5)
        for live in self.lives:
            live.stop()

    def _happens(self) -> None:
        while not self._over.wait(self._random.expovariate(1 / PACE)):
            live = self._random.choice(self.lives)
            act = self._act(live)
            if act:
                try:
                    live.act(act)
                except Refused:
                    continue
                self._tell(f"{live.design.name}: {act}")

    def _act(self, live: Live) -> str:
        """Something that may happen around one device."""
        parts = list(live.design.parts.values())
        part = self._random.choice(parts)
        bench = part.kind.bench(part)
        gestures = [word for word in bench.acts if word in GESTURES]
        if gestures:
            return f"{part.name}.{self._random.choice(gestures)}" if self._random.random() < 0.5 else ""
        known = [key for key in bench.sets if f"{live.design.name}.{part.name}.{key}" in self._world]
        if not known:
            return ""
        key = self._random.choice(known)
        whole = f"{live.design.name}.{part.name}.{key}"
        self._world[whole] = self._next(self._world[whole])
        shown = str(self._world[whole])
        return f"{part.name}.{key} = {shown.lower() if isinstance(self._world[whole], bool) else shown}"

    def _next(self, value: Any) -> Any:
        """A door goes the other way, a value goes a little up or down."""
        if isinstance(value, bool):
            return not value
        if isinstance(value, (int, float)):
            return round(value + self._random.gauss(0, max(abs(value) * 0.03, 0.1)), 2)
        return value
