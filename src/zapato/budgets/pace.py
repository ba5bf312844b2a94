"""How much of a second the program computes.

The figures are instructions of the VM, measured with devices of one part each over two minutes (ESP8266 and ESP32
boards, December 2026; the ESP8266's, which are the higher ones); the chip's rate is in its own file, from memory, the unkind end.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from zapato.budgets.traffic import traffic
from zapato.design.design import Design, PinUse

if TYPE_CHECKING:
    from zapato.budgets.row import BudgetRow

IDLE, CONNECTED = 23_000, 59_000
"""Instructions a second of a program without a network, and what Wi-Fi and the broker add."""
LOOK, LOOKS = 63_000, 100
"""Instructions of one look at an input without an interrupt, and looks a second."""
FEEL, FEELS = 58_000, 12.5
"""The same of a touch pad."""
READING, MESSAGE = 104_000, 317_000
"""Instructions of a sensor's reading, and of a message."""


def _looked_at(use: PinUse) -> bool:
    """True for an input that the program looks at again and again."""
    if use.need.use != "input" or use.pin.gpio < 0 or not any(f.name == "watch" for f in use.part.fields):
        return False
    watch = use.part.get("watch", "auto")
    return watch == "poll" or (watch == "auto" and not use.pin.interrupt)


def instructions(design: Design) -> dict[str, float]:
    """Instructions a second by what spends them; most of them pass in a rehearsal."""
    costs = {"the loop": float(IDLE)}
    if design.wifi is not None or design.ethernet is not None:
        costs["the network"] = float(CONNECTED)
    looked = sum(map(_looked_at, design.uses))
    if looked:
        costs["inputs without an interrupt"] = looked * LOOK * float(LOOKS)
    pads = sum(use.need.use == "touch" for use in design.uses)
    if pads:
        costs["touch pads"] = pads * FEEL * FEELS
    readings = sum(1000 / part.get("every", 0) for part in design.with_role("sensor") if part.get("every", 0))
    if readings:
        costs["readings"] = readings * READING
    said = traffic(design)
    if said:
        costs["messages"] = said.rate * MESSAGE
    return costs


def rows(design: Design) -> Iterator[BudgetRow]:
    """The share of its time that the chip computes."""
    from zapato.budgets.row import row

    if design.board is None:
        return
    chip = design.board.chip
    costs = instructions(design)
    formula = " + ".join(
        f"{what} {count / chip.speed / 10:.1f} %" for what, count in costs.items() if count > chip.speed
    )
    yield row(
        "time",
        design.name,
        "computing",
        sum(costs.values()) / chip.speed / 10,
        "%",
        100.0,
        formula=formula or "the loop at rest",
        source=chip.sources.get("speed", ""),
    )
