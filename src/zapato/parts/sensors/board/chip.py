"""The board itself: for how long it runs, how much memory is left, how well it hears its network."""

from __future__ import annotations

from zapato.parts.kind import Driver, Part
from zapato.parts.sensors import SensorChip, common, quantity
from zapato.parts.simulation import Simulation


def _driver(part: Part) -> Driver:
    return Driver("s_board", "Itself", common(part))


CHIP = SensorChip(
    inside=True,
    name="board",
    help="the board itself",
    properties={
        "uptime": quantity("s", "since it was switched on or restarted", 0),
        "heap": quantity("B", "memory that is free", 0),
        "signal": quantity("dBm", "of the access point, while it is joined"),
    },
    fastest=100,
    wiring="Nothing to wire.",
    source="the ports' own time, gc and network modules",
    driver=_driver,
    simulation=lambda part: Simulation(),
)
