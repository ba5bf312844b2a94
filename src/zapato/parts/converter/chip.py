"""What is known of a converter's chip."""

from __future__ import annotations

from zapato.parts.bus_chip import BusChip
from zapato.record import record


@record(eq=False)
class ConverterChip(BusChip):
    """A converter's chip.

    Attributes:
        inputs: how many it has.
        beyond: V above its supply that they bear.
        driver: the MicroPython module and class that drive it; after its place they take what `arguments` gives.
        bits: of a conversion, where its range is from ground to its supply; 0 where its ranges are its own.
    """

    inputs: int = 4
    beyond: float = 0.3
    driver: tuple[str, str] = ("converter", "Converter")
    bits: int = 0

    def arguments(self, supply: float) -> tuple[object, ...]:
        """What the driver must know beside its place: its bits and full range, or whether its own wide range is wanted."""
        return (self.bits, supply) if self.bits else (supply > 4.0,)
