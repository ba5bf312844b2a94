"""Pictures: each function takes a result and gives a Matplotlib figure."""

from zapato.draw.figure import save
from zapato.draw.timeline import timeline

__all__ = ["save", "timeline"]
