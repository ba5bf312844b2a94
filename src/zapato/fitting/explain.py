"""Why pins cannot be chosen: the smallest set of uses that has fewer pins than it needs, in words."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import combinations

from zapato.boards.board import Pin
from zapato.design.design import Design, PinUse
from zapato.parts.kind import Need
from zapato.record import record

WORDS = {
    "output": ("an output", "outputs"),
    "input": ("an input", "inputs"),
    "analog": ("an analog input", "analog inputs"),
    "line": ("a data line", "data lines"),
    "touch": ("a touch input", "touch inputs"),
    "dac": ("an analog output", "analog outputs"),
}
MOST_KINDS = 12
"""Different needs that are looked at in every combination; beyond, the whole set is named."""


@record(frozen=True)
class Conflict:
    """The smallest set of uses that cannot be placed together.

    Attributes:
        uses: (part, field) of each.
        pins: the pins that could serve any of them.
        reason: in words.
    """

    uses: tuple[tuple[str, str], ...]
    pins: tuple[Pin, ...]
    reason: str


def conflict(
    design: Design, uses: Sequence[PinUse], pins: Sequence[Pin], table: Sequence[Sequence[int | None]]
) -> Conflict:
    """The smallest set of uses with more members than pins (Hall's condition); else what couples them.

    Uses with the same candidate pins are alike, so a smallest set is found among the unions of
    those classes: it has one member more than the union has pins.
    """
    classes: dict[frozenset[int], list[int]] = {}
    for number, row in enumerate(table):
        classes.setdefault(frozenset(p for p, price in enumerate(row) if price is not None), []).append(
            number
        )
    best = _smallest(classes)
    if best is None:
        parts = tuple((use.part.name, use.need.field) for use in uses)
        return Conflict(
            parts, (), "each pin could be chosen alone, but the chip's controllers do not reach them together"
        )
    members, at = best
    chosen = [uses[n] for n in members]
    conflicting = tuple(pins[p] for p in sorted(at, key=lambda p: pins[p].gpio))
    return Conflict(
        tuple((u.part.name, u.need.field) for u in chosen), conflicting, _reason(design, chosen, conflicting)
    )


def _smallest(classes: dict[frozenset[int], list[int]]) -> tuple[list[int], frozenset[int]] | None:
    kinds = list(classes)
    sizes = range(1, len(kinds) + 1) if len(kinds) <= MOST_KINDS else (1, 2, len(kinds))
    best: tuple[list[int], frozenset[int]] | None = None
    for size in sizes:
        for some in combinations(kinds, size):
            union = frozenset(p for kind in some for p in kind)
            members = sorted(n for kind in kinds if kind <= union for n in classes[kind])
            if len(members) > len(union) and (best is None or len(union) + 1 < len(best[0])):
                best = members[: len(union) + 1], union
    return best


def _reason(design: Design, uses: Sequence[PinUse], pins: Sequence[Pin]) -> str:
    assert design.board is not None
    needs = list(dict.fromkeys(described(use.need, design) for use in uses))
    plural = " or ".join(dict.fromkeys(described(use.need, design, many=True) for use in uses))
    names = ", ".join(dict.fromkeys(use.part.name for use in uses))
    if not pins:
        return f"{names} needs {' or '.join(needs)}, and {design.board.id} has no free pin for that"
    listed = ", ".join(pin.name for pin in pins)
    count = len({use.part.name for use in uses})
    who = f"{count} parts need {plural}" if count > 1 else f"{names} needs {len(uses)} {plural}"
    return f"{who}; {design.board.id} has {len(pins)} free: {listed}. The parts: {names}"


def described(need: Need, design: Design, many: bool = False) -> str:
    """A need in words: "an analog input that works beside Wi-Fi"."""
    extra: list[str] = []
    if need.use == "analog" and design.radio:
        extra.append(f"that work{'' if many else 's'} beside Wi-Fi")
    if need.pull:
        extra.append(f"with an internal pull-{need.pull}")
    if need.interrupt:
        extra.append("with an interrupt")
    if need.pwm:
        extra.append("with pulse-width modulation")
    if need.controller:
        extra.append(f"for {need.controller.replace('.', ' ')}")
    return " ".join([WORDS[need.use][many], *extra])
