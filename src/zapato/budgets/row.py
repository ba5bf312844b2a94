"""One figure of a budget, with how it was worked out."""

from __future__ import annotations

from dataclasses import asdict
from math import inf
from typing import Literal

from zapato.record import record

TOPICS = ("supply", "pins", "strips", "analog", "buses", "traffic", "memory", "time")
Verdict = Literal["", "ok", "close", "over"]
CLOSE = 0.8
"""The share of a limit from which on a figure is close to it."""


@record(frozen=True)
class BudgetRow:
    """One figure.

    Attributes:
        topic: one of TOPICS.
        of: whose it is: a rail, a pin, a part, a bus.
        what: what it is of it.
        value: in `unit`, an SI unit.
        limit: that it must not pass, or None.
        least: the limit is the least that is wanted.
        formula: how it was worked out.
        source: where its figures are from.
    """

    topic: str
    of: str
    what: str
    value: float
    unit: str
    limit: float | None = None
    formula: str = ""
    source: str = ""
    least: bool = False

    @property
    def share(self) -> float:
        """How much of its limit it takes; of a least that is wanted, how much of the figure that is. 0 without a limit."""
        if self.limit is None:
            return 0.0
        part, whole = (self.limit, self.value) if self.least else (self.value, self.limit)
        return part / whole if whole else inf

    @property
    def verdict(self) -> Verdict:
        """Empty where there is no limit."""
        if self.limit is None:
            return ""
        return "over" if self.share > 1 else "close" if self.share > CLOSE else "ok"

    def as_dict(self) -> dict[str, object]:
        return {**asdict(self), "verdict": self.verdict}


def row(
    topic: str,
    of: str,
    what: str,
    value: float,
    unit: str,
    limit: float | None = None,
    *,
    formula: str = "",
    source: str = "",
    least: bool = False,
) -> BudgetRow:
    """A figure with its limit."""
    return BudgetRow(topic, of, what, value, unit, limit, formula, source, least)
