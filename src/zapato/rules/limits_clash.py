"""limits-clash: limits of an output that cannot all be kept."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding
from zapato.lang.units import shown_time

HOUR = 3_600_000


def _find(design: Design) -> Iterator[Finding]:
    for part in design.with_role("relay"):
        least, most = part.get("shortest_on", 0), part.get("longest_on", 0)
        if most and least > most:
            yield design.finding(
                "limits-clash",
                "error",
                (*part.path, "longest_on"),
                f"{part.name} must stay on for {_plain(least)}, and is switched off after {_plain(most)}",
                fixes=("shortest_on below longest_on",),
            )


def _plain(ms: float) -> str:
    return shown_time(ms).strip('"')


RULE = DesignRule(
    code="limits-clash",
    family="resources",
    severities=("error",),
    title="limits of an output that cannot all be kept",
    story="""
`shortest_on` keeps a relay on for a time at least, `longest_on` for a time at most. The one cannot be
longer than the other.
""",
    failing=device('[relay.pump]\npin = 26\nshortest_on = "10min"\nlongest_on = "1min"'),
    mended=device('[relay.pump]\npin = 26\nshortest_on = "1min"\nlongest_on = "10min"'),
    find=_find,
)
