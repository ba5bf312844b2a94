"""What is known of a clock chip."""

from __future__ import annotations

from zapato.parts.bus_chip import BusChip
from zapato.record import record


@record(eq=False)
class ClockChip(BusChip):
    """A clock chip.

    Attributes:
        driver: the MicroPython module and class that drive it.
    """

    driver: tuple[str, str] = ("", "")
