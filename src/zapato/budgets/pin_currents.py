"""What flows through each pin, and through all of them, against what the chip bears."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from zapato.boards.board import Pin
from zapato.budgets.rails import loads
from zapato.design.design import Design, once
from zapato.parts.electrical import PIN, Load
from zapato.parts.kind import Part
from zapato.record import record

if TYPE_CHECKING:
    from zapato.budgets.row import BudgetRow


@record(eq=False)
class PinCurrent:
    """The current of one pin, A: whose, on which pin, and what the pin bears."""

    part: Part
    load: Load
    pin: Pin

    @property
    def bears(self) -> float:
        return self.pin.drive_ma / 1000


@once
def pin_currents(design: Design) -> list[PinCurrent]:
    """Every current through a pin of the chip."""
    return [
        PinCurrent(part, load, part.pins[load.field])
        for part, load in loads(design)
        if load.feed == PIN and load.field in part.pins and part.pins[load.field].gpio >= 0
    ]


def total(design: Design) -> float:
    """All pins together, A."""
    return sum(pin_current.load.peak for pin_current in pin_currents(design))


def rows(design: Design) -> Iterator[BudgetRow]:
    """The figures of every pin, and their sum."""
    from zapato.budgets.row import row

    for pin_current in pin_currents(design):
        name = design.called(pin_current.pin)
        yield row(
            "pins", name, f"{pin_current.part.name}: {pin_current.load.what}", pin_current.load.peak, "A", pin_current.bears,
            formula=pin_current.load.source, source=pin_current.pin.source,
        )  # fmt: skip
    chip = design.board.chip if design.board else None
    if chip and chip.total and pin_currents(design):
        source = chip.sources.get("total", "")
        yield row(
            "pins",
            "the chip",
            "all outputs together",
            total(design),
            "A",
            chip.total,
            formula="sum",
            source=source,
        )
