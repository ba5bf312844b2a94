"""The shapes of a wiring sheet.

A sheet is data first; `draw/arrangement.py` puts it beside the board and `draw/wires.py` draws it.
"""

from __future__ import annotations

from dataclasses import asdict
from typing import TYPE_CHECKING, Literal

from zapato.design.design import Design
from zapato.record import record

if TYPE_CHECKING:
    import pandas as pd

Kind = Literal["signal", "serial", "supply", "ground", "mains", "fitted"]
"""What a wire carries; "fitted" is no wire to make: the part is soldered to the board."""
MAINS = 50.0
"""V from which on a conductor is kept apart from all that carries low voltage (IEC 61140, extra-low voltage: up to 50 V AC)."""
GROUND = "GND"


@record(frozen=True)
class Wire:
    """One wire.

    Attributes:
        start, end: its ends, as "board 26" and "heater IN".
        kind: what it carries.
        part: whose it is, or "board".
        volts: its highest level against ground, V; 0 for ground.
        through: the component in the wire.
        note: what to mind.
        area: cross-section, mm2.
    """

    start: str
    end: str
    kind: Kind
    part: str
    volts: float
    through: str = ""
    note: str = ""
    area: float = 0.25

    @property
    def carries(self) -> str:
        """What it carries, in words: "ground", "5 V", "signal, 3.3 V"."""
        if self.kind in ("ground", "fitted"):
            return "ground" if self.kind == "ground" else "on the board"
        volts = f"{self.volts:g} V"
        return volts if self.kind in ("supply", "mains") else f"{self.kind}, {volts}"

    @property
    def colour(self) -> str:
        """The colour of its insulation: ground black, the rails as in computers, mains by IEC 60445; "" where any other will do."""
        if self.kind == "ground":
            return "black"
        if self.kind == "mains":
            return "brown"
        if self.kind != "supply":
            return ""
        return next(colour for most, colour in RAILS if self.volts <= most)


RAILS = ((3.6, "orange"), (4.4, "pink"), (5.5, "red"), (15.0, "yellow"), (float("inf"), "violet"))
"""Up to so many V: the colour of a supply wire. 3.3 V, a lithium cell, 5 V, 12 V, 24 V."""


@record(frozen=True)
class Item:
    """Something to buy: what, its value, how many, and for whom."""

    what: str
    value: str
    count: int
    why: str


@record(frozen=True)
class Sheet:
    """The wiring of a device.

    Attributes:
        design: whose it is.
        wires: part by part, and what is soldered to the board.
        items: parts, passive parts and wires to buy.
        steps: the way into the board's loader.
        apart: parts whose contacts carry mains.
        left_out: wires that are not drawn because they would do harm, with the reason.
    """

    design: Design
    wires: tuple[Wire, ...]
    items: tuple[Item, ...]
    steps: tuple[str, ...]
    apart: tuple[str, ...]
    left_out: tuple[str, ...] = ()

    @property
    def frame(self) -> pd.DataFrame:
        """One row a wire."""
        import pandas

        return pandas.DataFrame([asdict(wire) for wire in self.wires])
