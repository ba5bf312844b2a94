"""A small display: lines of text with values in them, on pages that are turned."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, cast

from zapato.lang.fields import REQUIRED, Field, Wrong, whole
from zapato.parts.bus_chip import addresses, chip_fields, chip_of, place, stand_in, supplied
from zapato.parts.display.chip import DisplayChip
from zapato.parts.electrical import RAIL, Load, Supplied, drawing, fed
from zapato.parts.kind import Action, Argument, Driver, Kind, Part, Property
from zapato.parts.simulation import Simulation

LINES, COLUMNS, PAGES = 8, 16, 8
"""Of 128 by 64 points with letters of 8 by 8; and pages at the most."""


def _read_pages(value: object) -> tuple[tuple[str, ...], ...]:
    """Lines, or lists of lines."""
    rows = cast(list[Any], value) if isinstance(value, list) else []
    pages = rows if rows and all(isinstance(row, list) for row in rows) else [rows]
    if not rows or not all(isinstance(line, str) for page in pages for line in cast(list[Any], page)):
        raise Wrong('takes lines, or a list of lines for each page: ["Cellar {cellar.temperature}", "…"]')
    if len(pages) > PAGES:
        raise Wrong(f"has {len(pages)} pages; {PAGES} is the most")
    for page in cast(list[list[str]], pages):
        if len(page) > LINES:
            raise Wrong(f"has {len(page)} lines on a page; it shows {LINES}")
        for line in page:
            if strange := next((c for c in line if not 32 <= ord(c) < 127), ""):
                raise Wrong(
                    f'has "{strange}", which its font does not have',
                    "letters, digits and signs of ASCII: C in place of °C",
                )
    return tuple(tuple(page) for page in cast(list[list[str]], pages))


class DisplayKind(Kind):
    """A small display of 128 by 64 points: lines with values, on pages."""

    name = "display"
    help = "a small display of 128 by 64 points: lines with values, on pages"
    fields = (
        *fed('"3V3"'),
        *chip_fields("display"),
        Field(
            "lines",
            _read_pages,
            {"type": "array"},
            f"up to {LINES} lines of {COLUMNS} letters, values in braces; a list of such lists for several pages",
            REQUIRED,
            role="texts",
        ),
        whole("brightness", "how bright, 1 to 255", 128, least=1, most=255),
    )
    actions = {
        "show": Action((Argument("page", "number"),), help="show this page"),
        "turn": Action(help="show the next page, after the last the first"),
    }
    wiring = "On the bus like any chip: 3.3 V, ground, SDA, SCL; breakouts differ in the order of their pins. Address 0x3C, or 0x3D by a resistor on its back."
    example = '[i2c.main]\nsda = 21\nscl = 22\n\n[display.panel]\nchip = "ssd1306"\nbus = "main"\nlines = ["Boot room", "{1 + 1} pairs"]'

    def properties(self, part: Part) -> Mapping[str, Property]:
        return {
            "page": Property(
                "number",
                settable=True,
                low=1,
                high=len(part.get("lines", ((),))),
                help="the page that it shows",
            ),
            "on": Property("boolean", settable=True, help="it shows something"),
        }

    def driver(self, part: Part) -> Driver | None:
        at, chip = place(part), chip_of(part, DisplayChip)
        if at is None or chip is None:
            return None
        return Driver(
            *chip.driver, (*at, part.get("brightness", 128)), data=128, tells="lines", also=("texts",)
        )

    def simulation(self, part: Part) -> Simulation:
        chip = stand_in(part)
        return Simulation(chips=(chip,) if chip else ())

    def loads(self, part: Part) -> Iterable[Load]:
        return drawing(part, "the display", RAIL, 0.03)

    def supplied(self, part: Part) -> Supplied | None:
        return supplied(part)

    def addresses(self, part: Part) -> tuple[int, ...]:
        return addresses(part)


KIND = DisplayKind()
