"""One figure of a budget, with how it was worked out."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Literal

Verdict = Literal["", "ok", "close", "over"]
CLOSE = 0.8
"""The share of a limit from which on a figure is close to it."""


@dataclass(frozen=True)
class Row:
    """One figure.

    Attributes:
        topic: supply, pins, strips, analog, buses, traffic or memory.
        of: whose it is: a rail, a pin, a part, a bus; what: what it is of it.
        value: in `unit`, an SI unit; limit: that it must not pass, or None.
        verdict: "ok", "close", "over"; empty where there is no limit.
        formula: how it was worked out; source: where its figures are from.
    """

    topic: str
    of: str
    what: str
    value: float
    unit: str
    limit: float | None = None
    verdict: Verdict = ""
    formula: str = ""
    source: str = ""

    def as_dict(self) -> dict[str, object]:
        return asdict(self)


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
) -> Row:
    """A figure held against its limit; with `least` the limit is the least that is wanted."""
    verdict: Verdict = ""
    if limit is not None:
        share = (
            (limit / value if value else float("inf")) if least else value / limit if limit else float("inf")
        )
        verdict = "over" if share > 1 else "close" if share > CLOSE else "ok"
    return Row(topic, of, what, value, unit, limit, verdict, formula, source)
