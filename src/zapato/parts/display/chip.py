"""What is known of a display's controller."""

from __future__ import annotations

from dataclasses import dataclass

from zapato.parts.bus_chip import BusChip


@dataclass(eq=False, repr=False)
class DisplayChip(BusChip):
    """A display's controller; `driver` are the MicroPython module and class that drive it."""

    driver: tuple[str, str] = ("display", "Display")
