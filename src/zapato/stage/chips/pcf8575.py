"""PCF8575: sixteen quasi-bidirectional pins, the low byte first."""

from zapato.stage.chips.expanders import Quasi


class Chip(Quasi):
    """Two bytes instead of one."""

    size = 2
