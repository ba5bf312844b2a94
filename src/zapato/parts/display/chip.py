"""What is known of a display's controller."""

from __future__ import annotations

from zapato.parts.bus_chip import BusChip
from zapato.record import record


@record(eq=False)
class DisplayChip(BusChip):
    """A display's controller.

    Attributes:
        driver: the MicroPython module and class that drive it.
    """

    driver: tuple[str, str] = ("display", "Display")
