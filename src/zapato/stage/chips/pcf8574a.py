"""PCF8574A: eight quasi-bidirectional pins."""

from zapato.stage.chips.expanders import Quasi as Chip

__all__ = ["Chip"]
