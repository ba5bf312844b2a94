"""Pictures: each function takes a design or a result and gives a Matplotlib figure."""

from zapato.draw.budgets import budget_chart
from zapato.draw.figure import check_name, save
from zapato.draw.history import history_chart
from zapato.draw.links import link_graph
from zapato.draw.pinmap import pin_map
from zapato.draw.site_timeline import site_timeline
from zapato.draw.timeline import timeline
from zapato.draw.wires import wiring_sheet

__all__ = [
    "budget_chart",
    "check_name",
    "history_chart",
    "link_graph",
    "pin_map",
    "save",
    "site_timeline",
    "timeline",
    "wiring_sheet",
]
