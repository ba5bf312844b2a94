"""PCA9546A in a rehearsal."""

from __future__ import annotations

from zapato.parts.multiplexer.switch import Switch


class Chip(Switch):
    """PCA9546A."""

    channels = 4
