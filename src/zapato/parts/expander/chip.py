"""What is known of an expander's chip."""

from __future__ import annotations

from zapato.parts.bus_chip import BusChip
from zapato.record import record

QUASI = "{} datasheet, Quasi-bidirectional I/Os (high from power-up, 100 uA); Device address; Limiting values: VDD + 0.5 V; Static characteristics: 2.5 V to 5.5 V, input high from 0.7 VDD"


@record(eq=False)
class ExpanderChip(BusChip):
    """An expander's chip.

    Attributes:
        pins: how many it offers.
        pull_up: it has resistors for its inputs.
        beyond: V above its supply that its pins bear.
        weak_high: its pins give hardly anything in the high state.
        driver: the MicroPython module and class that drive it.
    """

    pins: int = 8
    pull_up: bool = True
    beyond: float = 0.5
    weak_high: bool = False
    driver: tuple[str, str] = ("expander", "Expander")
