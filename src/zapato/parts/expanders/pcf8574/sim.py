"""PCF8574: eight quasi-bidirectional pins."""

from zapato.parts.expander.quasi import Quasi as Chip

__all__ = ["Chip"]
