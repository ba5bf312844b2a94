"""PCF8574A: eight quasi-bidirectional pins."""

from zapato.parts.expander.quasi import Quasi as Chip

__all__ = ["Chip"]
