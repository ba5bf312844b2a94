"""PCF8575: sixteen quasi-bidirectional pins, the low byte first."""

from zapato.parts.expander.quasi import Quasi


class Chip(Quasi):
    """Two bytes instead of one."""

    size = 2
