"""Pictures: each function takes a result and gives a Matplotlib figure."""

from zapato.draw.figure import check_name, save
from zapato.draw.timeline import timeline

__all__ = ["check_name", "save", "timeline"]
