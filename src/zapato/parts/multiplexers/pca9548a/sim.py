"""PCA9548A in a rehearsal."""

from __future__ import annotations

from zapato.parts.multiplexer.switch import Switch


class Chip(Switch):
    """PCA9548A."""

    channels = 8
