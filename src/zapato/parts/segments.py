"""Buses that chips on other buses connect: what a bus shares with those before it, and with those behind it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from zapato.parts.kind import Part


def upstream(bus: Part) -> Iterator[Part]:
    """The buses before a bus, the nearest first; each once, though a file may have them in a ring."""
    seen = [bus]
    before = bus.kind.upstream(bus)
    while before is not None and before not in seen:
        yield before
        seen.append(before)
        before = before.kind.upstream(before)


def root(bus: Part) -> Part:
    """The bus of the board's own from which a bus gets its clock."""
    return [bus, *upstream(bus)][-1]


def connected(one: Part, other: Part) -> bool:
    """Whether chips on the two buses hear each other's messages, at some time."""
    return one is other or one in upstream(other) or other in upstream(one)


def on_clock(bus: Part, parts: Iterable[Part]) -> list[Part]:
    """The parts that hear a bus's clock: those on it, and those on buses behind it."""
    buses = ((part, part.linked.get("bus")) for part in parts)
    return [part for part, its in buses if its is bus or (its is not None and bus in upstream(its))]
