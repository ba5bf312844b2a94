"""A motor between two ends, moved by the levels of its two pins."""

from __future__ import annotations

from typing import Any

from zapato.parts.simulation import Probe, Stimulus, World
from zapato.record import record


class Curtain:
    """Its place, 0 to 100, follows from the levels of its two pins, not from what the program believes."""

    def __init__(self, world: World, opens: int, closes: int, active: int, travel: int) -> None:
        self.world, self.opens, self.closes, self.active, self.travel = world, opens, closes, active, travel
        self.place, self.at, self.direction = 0.0, world.now, 0
        world.watch(self.watch)

    def watch(self) -> None:
        """After everything that happens."""
        ms = self.world.now - self.at
        self.at = self.world.now
        self.place = min(100.0, max(0.0, self.place + self.direction * 100 * ms / self.travel))
        level = self.world.level
        self.direction = (level(self.opens) == self.active) - (level(self.closes) == self.active)


@record(eq=False)
class _Of:
    """The curtain of two pins; `travel` in ms from end to end."""

    opens: int
    closes: int
    active: int
    travel: int

    def curtain(self, world: World) -> Curtain:
        key = "curtain", self.opens, self.closes
        return world.keep(key, lambda: Curtain(world, self.opens, self.closes, self.active, self.travel))


class CurtainPosition(_Of, Probe):
    """Where it is."""

    def begin(self, world: World) -> None:
        self.curtain(world)

    def read(self, world: World) -> float:
        return round(self.curtain(world).place, 1)


class CurtainMoved(_Of, Stimulus):
    """Somebody moves it by hand."""

    def put(self, world: World, value: Any, over: int = 0) -> None:
        self.curtain(world).place = float(value)
