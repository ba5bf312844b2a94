"""What is known of a multiplexer's chip."""

from __future__ import annotations

from dataclasses import dataclass

from zapato.parts.bus_chip import BusChip


@dataclass(eq=False, repr=False)
class MultiplexerChip(BusChip):
    """A multiplexer's chip, one bit of its control register a channel; `channels`: how many it has."""

    channels: int = 8
