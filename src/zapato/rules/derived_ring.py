"""derived-ring: derived numbers that wait for each other, so none is ever known."""

from __future__ import annotations

from collections.abc import Iterator

from zapato.checks.rings import rings
from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.design.program import expressions
from zapato.findings import Finding


def _find(design: Design) -> Iterator[Finding]:
    derived = {part.name for part in design.with_role("derived")}
    leads: dict[str, list[str]] = {}
    for path, expression in expressions(design):
        if path[1] in derived:
            leads[str(path[1])] = [part for part, _ in expression.reads if part in derived]
    for ring in rings(leads):
        names = sorted(ring)
        message = (
            f"{names[0]} waits for itself" if len(names) == 1 else f"{', '.join(names)} wait for each other"
        )
        yield design.finding(
            "derived-ring",
            "error",
            ("derived", names[0], "of"),
            f"{message}, so none is ever known",
            why="a derived number is worked out from numbers that are known, and at power-up it is not.",
            fixes=("a number that a link sets, where it is to remember what it was",),
        )


RULE = DesignRule(
    code="derived-ring",
    family="links",
    severities=("error",),
    title="derived numbers that wait for each other",
    story="""
A derived number is unknown while anything that it reads is. One that reads itself, or two that read
each other, are never known. What is to remember its past is a `number` that a link sets.
""",
    failing=device('[derived.sum]\nof = "sum.value + 1"'),
    mended=device('[number.step]\n\n[derived.sum]\nof = "step.value + 1"'),
    find=_find,
)
