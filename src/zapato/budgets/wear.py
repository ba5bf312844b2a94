"""How long the flash lasts: what a device writes by itself, and over how many blocks LittleFS spreads it."""

from __future__ import annotations

from zapato.design.design import Design
from zapato.design.program import driver_modules, drivers
from zapato.record import record

BLOCK = 4096
CYCLES = 100_000
"""Erasures that each block of a serial NOR flash stands (the modules' and the flash chips' data sheets, endurance)."""
ERASURES = 1.3
"""Blocks erased for one writing of kept.json: the most of what was measured on LittleFS, 30 to 900 bytes, every port (tests/budgets/test_wear.py)."""
MOST = 8640
"""Writings a day at the most: kept values rest 10 s between two."""
CHANGES = 100
"""Changes a day that are taken for granted of what is kept at each change."""
OWN = 12
"""Blocks that LittleFS and the files at its root take."""


@record(frozen=True)
class Wear:
    """What the flash stands.

    Attributes:
        kept: the parts whose values are kept through a power cut.
        free: blocks over which the writing is spread.
        a_day: writings a day as they are to be expected.
        years: that the flash lasts then.
        years_least: that it lasts where something kept changes all the time.
    """

    kept: tuple[str, ...]
    free: int
    a_day: int
    years: float
    years_least: float

    def as_dict(self) -> dict[str, object]:
        return {**vars(self), "kept": list(self.kept)}


def wear(design: Design, slot: int) -> Wear | None:
    """The wear of a design whose slot takes so many bytes of whole blocks; None where nothing is kept, or no board known."""
    if design.board is None:
        return None
    keeping = {name: driver for name, driver in drivers(design).items() if "store" in driver_modules(driver)}
    if not keeping:
        return None
    free = max(1, design.board.partition[1] // BLOCK - 2 * -(-slot // BLOCK) - OWN)
    a_day = CHANGES + max(driver.writes for driver in keeping.values())
    return Wear(tuple(keeping), free, a_day, _years(free, a_day), _years(free, MOST))


def _years(free: int, a_day: int) -> float:
    return round(CYCLES * free / (ERASURES * a_day * 365.25), 1)
