"""pair-at-reset: both sides of a pair that must never be on together are on while the board starts."""

from collections.abc import Iterator
from itertools import combinations

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design, PinUse
from zapato.findings import Finding


def _on_at_reset(design: Design, use: PinUse) -> bool:
    """Whether the pin holds the level that switches its part on, from power-up until the program sets it."""
    resistor = design.board.resistors.get(use.pin.gpio) if design.board else None
    level = {"up": "high", "down": "low"}[resistor[0]] if resistor else use.pin.reset_level
    return use.need.active is not None and level == use.need.active


def _pairs(design: Design) -> Iterator[tuple[PinUse, PinUse]]:
    """Outputs of which only one may be on: the two directions of a part, relays that exclude each other."""
    for one, other in combinations(
        [use for use in design.uses if use.need.use == "output" and use.need.clicks], 2
    ):
        if (
            one.part is other.part
            or other.part in one.part.linked.values()
            or one.part in other.part.linked.values()
        ):
            yield one, other


def _find(design: Design) -> Iterator[Finding]:
    for one, other in _pairs(design):
        if not (_on_at_reset(design, one) and _on_at_reset(design, other)):
            continue
        names = f"{design.called(one.pin)} and {design.called(other.pin)}"
        whose = (
            f"both directions of {one.part.id}"
            if one.part is other.part
            else f"{one.part.id} and {other.part.id}, which exclude each other,"
        )
        yield design.finding(
            "pair-at-reset",
            "error",
            other.path,
            f"{names} are both {one.need.active if one.need.active == other.need.active else 'active'} from power-up on, and {whose} are on until the program runs",
            why=f"a motor gets both directions at once, or two loads are joined ({one.pin.source}).",
            fixes=("a pin that rests at the other level for one of them, better for both", "a part that is active at the other level"),
            pin=other.pin,
        )  # fmt: skip


RULE = DesignRule(
    code="pair-at-reset",
    family="pins",
    severities=("error",),
    title="outputs that exclude each other are both on while the board starts",
    story="""
The program sees to it that a blind never gets both directions, and that relays which exclude each other are never closed together. But
between power-up and the program's first line the pins alone decide. Where both rest at the level that switches on, both are on, for some
hundred milliseconds at each start, and for as long as it takes while the board waits in its loader. A motor does not survive that often.
""",
    failing=device("[blind.hall]\nopen = 14\nclose = 5"),
    mended=device("[blind.hall]\nopen = 25\nclose = 26"),
    find=_find,
)
