"""PCF8574: eight quasi-bidirectional pins."""

from zapato.stage.chips.expanders import Quasi as Chip

__all__ = ["Chip"]
