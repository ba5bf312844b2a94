"""What is known of a converter's chip."""

from __future__ import annotations

from dataclasses import dataclass

from zapato.parts.bus_chip import BusChip


@dataclass(eq=False, repr=False)
class ConverterChip(BusChip):
    """A converter's chip.

    Attributes:
        inputs: how many it has; beyond: V above its supply that they bear.
        driver: the MicroPython module and class that drive it.
    """

    inputs: int = 4
    beyond: float = 0.3
    driver: tuple[str, str] = ("converter", "Converter")
