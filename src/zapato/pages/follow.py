"""One device file as it is edited: each part of its page made anew when somebody asks for it after a save."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any

from markupsafe import Markup

from zapato import __version__
from zapato.budgets.whole import budget
from zapato.checks import report as report_of
from zapato.checks.follow import Follower
from zapato.design import Design, resolve
from zapato.draw import budget_chart, link_graph, pin_map, wiring_sheet
from zapato.draw.budgets import shown
from zapato.errors import Unreadable, ZapatoError
from zapato.pages.frame import page, picture

PICTURES: Mapping[str, Callable[[Design], Any]] = {
    "pins": pin_map,
    "wires": wiring_sheet,
    "links": link_graph,
    "budget": lambda design: budget_chart(budget(design)),
}
"""The pictures of the page, in its order."""
PARTS = ("verdict", *PICTURES)


class Followed:
    """A device file that somebody edits.

    Attributes:
        path: the file.
        version: counted at every save that changed something around it.
    """

    def __init__(self, path: Path) -> None:
        self.path, self.version = path, 0
        self._follower = Follower([path])
        self._design = resolve(path)
        self._made: dict[str, str] = {}
        self._lock = threading.Lock()
        self.look()

    def look(self) -> bool:
        """See whether something was saved; True where the page is another. Raises Unreadable at the first look alone."""
        with (
            self._lock
        ):  # what is read of the site's folders is kept for the next reading, by one reader at a time
            if self._follower.look() is None:
                return False
            with suppress(Unreadable):  # gone since: the next look finds it again
                self._design, self._made = resolve(self.path), {}
                self.version += 1
        return True

    def whole(self) -> str:
        """The page around the parts."""
        return page("look.html", design=self._design, parts=PARTS, version=__version__)

    def part(self, name: str) -> str:
        """One part as HTML; empty where the device has nothing of it. Raises KeyError."""
        with self._lock:  # Matplotlib draws one picture at a time
            if name not in self._made:
                self._made[name] = self._verdict() if name == "verdict" else self._picture(name)
            return self._made[name]

    def _verdict(self) -> str:
        report = report_of([self._design])
        held = budget(self._design).rows if self._design.board else ()
        return page(
            "look_verdict.html",
            design=self._design,
            report=report,
            findings=list(report.findings),
            rows=[row for row in held if row.verdict in ("over", "close") or row.of == "heap"],
            shown=shown,
        )

    def _picture(self, name: str) -> str:
        draw = PICTURES[name]
        if self._design.board is None or (name == "links" and not self._design.links):
            return ""
        try:
            return Markup(picture(draw(self._design), f"{self._design.name}-{name}"))
        except ZapatoError as error:
            return page("look_wrong.html", message=str(error))
