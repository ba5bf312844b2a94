"""Devices of a site, alive at a broker from the simulator, with somebody about: doors open, buttons are pressed, it gets warmer."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable, Iterator, Sequence
from random import Random
from typing import Any

from zapato.design import Design
from zapato.errors import Refused
from zapato.simulator.live_run import Live

PACE = 1.5
"""Seconds between two things that happen, on average."""
GESTURES = ("press", "tap", "start", "turn")
"""Words of gestures that may just happen."""


class DemoActivity:
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
        self._possible = [(live, act) for live in self.lives for act in self._acts(live)]
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
        while self._possible and not self._over.wait(self._random.expovariate(1 / PACE)):
            live, act = self._random.choice(self._possible)
            if "=" in act:
                act = self._changed(live, act.removesuffix("="))
            with contextlib.suppress(Refused):
                live.act(act)
                self._tell(f"{live.design.name}: {act}")

    def _acts(self, live: Live) -> Iterator[str]:
        """What may happen around one device: gestures, and "part.property=" for what goes another way."""
        for part in live.design.parts.values():
            simulation = part.simulation
            yield from (f"{part.name}.{word}" for word in simulation.gestures if word in GESTURES)
            for key in simulation.stimuli:
                if f"{live.design.name}.{part.name}.{key}" in self._world:
                    yield f"{part.name}.{key}="

    def _changed(self, live: Live, key: str) -> str:
        value = self._next(self._world[f"{live.design.name}.{key}"])
        self._world[f"{live.design.name}.{key}"] = value
        return f"{key} = {str(value).lower() if isinstance(value, bool) else value}"

    def _next(self, value: Any) -> Any:
        """A door goes the other way, a value goes a little up or down."""
        if isinstance(value, bool):
            return not value
        if isinstance(value, (int, float)):
            return round(value + self._random.gauss(0, max(abs(value) * 0.03, 0.1)), 2)
        return value
