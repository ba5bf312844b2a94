"""What parts share that are a chip on an I2C bus: which one it is, its address, and its stand-in."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from zapato.lang.fields import REQUIRED, Field, choice, names, whole
from zapato.parts.model import Part

Chips = Mapping[str, tuple[int, ...]]
"""The chips that a kind knows, and the addresses that each can have, the usual one first."""


def chip_fields(what: str, chips: Chips) -> tuple[Field, ...]:
    """chip, bus and address."""
    return (
        choice("chip", f"the {what}'s chip", *chips),
        names("bus", "the I2C bus it hangs on", REQUIRED, role="bus"),
        whole("address", "its address on the bus", None, least=1, most=127),
    )


def addresses(chips: Chips) -> Callable[[Part], tuple[int, ...]]:
    """The addresses that a part can have."""
    return lambda part: chips.get(part.get("chip", ""), ())


def place(part: Part, chips: Chips) -> tuple[str, int] | None:
    """Its bus's name and its address there; None where the file is not right yet."""
    usual = chips.get(part.get("chip", ""), ())
    if not usual or "bus" not in part.linked:
        return None
    return part.linked["bus"].name, part.get("address", 0) or usual[0]


def stand_in(
    part: Part, chips: Chips, pins: Mapping[int, int] | None = None, interrupt: int | None = None
) -> list[object] | None:
    """The chip as the stage puts it on its bus; None where the bus has no pins yet."""
    at = place(part, chips)
    data = part.linked["bus"].pins.get("sda") if at else None
    return [data.gpio, at[1], part.get("chip", ""), pins or {}, interrupt] if at and data else None
