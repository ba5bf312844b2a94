"""Resistors as they are sold: the E24 series (IEC 60063)."""

from __future__ import annotations

from math import floor, log10

E24 = (
    1.0, 1.1, 1.2, 1.3, 1.5, 1.6, 1.8, 2.0, 2.2, 2.4, 2.7, 3.0,
    3.3, 3.6, 3.9, 4.3, 4.7, 5.1, 5.6, 6.2, 6.8, 7.5, 8.2, 9.1,
)  # fmt: skip


def above(ohm: float) -> float:
    """The smallest E24 value of at least `ohm`."""
    scale = 10.0 ** floor(log10(ohm))
    steps = (*(step * scale for step in E24), 10 * scale)
    return round(next(step for step in steps if step >= ohm * (1 - 1e-9)), 6)


def below(ohm: float) -> float:
    """The largest E24 value of at most `ohm`."""
    scale = 10.0 ** floor(log10(ohm))
    steps = (scale / 10 * E24[-1], *(step * scale for step in E24))
    return round(max(step for step in steps if step <= ohm * (1 + 1e-9)), 6)
