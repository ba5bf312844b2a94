"""What is known of a multiplexer's chip."""

from __future__ import annotations

from zapato.parts.bus_chip import BusChip
from zapato.record import record


@record(eq=False)
class MultiplexerChip(BusChip):
    """A multiplexer's chip, one bit of its control register a channel.

    Attributes:
        channels: how many it has.
    """

    channels: int = 8
