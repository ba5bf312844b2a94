"""What is known of a clock chip."""

from __future__ import annotations

from dataclasses import dataclass

from zapato.parts.bus_chip import BusChip


@dataclass(eq=False, repr=False)
class ClockChip(BusChip):
    """A clock chip; `driver` are the MicroPython module and class that drive it."""

    driver: tuple[str, str] = ("", "")
