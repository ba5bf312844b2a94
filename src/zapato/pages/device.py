"""The report of one device."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from markupsafe import Markup

from zapato import __version__
from zapato.budgets.row import TOPICS
from zapato.budgets.whole import budget
from zapato.checks import report as report_of
from zapato.design import Design, resolve
from zapato.design.links import starts, written_actions
from zapato.draw import budget_chart, link_graph, pin_map, timeline, wiring_sheet
from zapato.draw.budgets import shown
from zapato.draw.links import written
from zapato.pages.frame import page, picture
from zapato.topics import topics
from zapato.wiring import wiring

if TYPE_CHECKING:
    from zapato.simulator import Rehearsal


def device_page(
    what: Design | Path | str,
    rehearsal: Rehearsal | None = None,
    *,
    progress: Callable[[float], None] = lambda share: None,
) -> str:
    """One self-contained page of HTML about a device: verdict, pins, wiring, budgets, links, topics, rehearsal.

    Nothing secret is in it. `progress` hears how much of it is done. Raises Unreadable.
    """
    design = what if isinstance(what, Design) else resolve(Path(what))
    checked = report_of([design])
    figures: dict[str, str] = {}
    drawn: dict[str, Callable[[], Any]] = {}
    if design.board:
        drawn = {
            "pins": lambda: pin_map(design),
            "wires": lambda: wiring_sheet(design),
            "budget": lambda: budget_chart(budget(design)),
        }
    if design.links:
        drawn["links"] = lambda: link_graph(design)
    if rehearsal:
        drawn["day"] = lambda: timeline(rehearsal)
    for number, (name, draw) in enumerate(drawn.items()):
        figures[name] = Markup(picture(draw(), f"{design.name}-{name}"))
        progress((number + 1) / len(drawn))
    return page(
        "device.html",
        design=design,
        board=design.board,
        report=checked,
        findings=list(checked.findings),
        figures=figures,
        sheet=wiring(design),
        budget=budget(design),
        budget_topics=TOPICS,
        shown=shown,
        links=[
            (starts(row := written(design, link)), written_actions(row), dict(row)) for link in design.links
        ],
        topics=topics(design),
        rehearsal=rehearsal,
        version=__version__,
    )
