"""excludes-start: two relays that exclude each other are both closed at power-up."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding


def _find(design: Design) -> Iterator[Finding]:
    for part in design.with_role("relay"):
        for name in part.get("excludes", ()):
            other = design.parts.get(name)
            if other and part.get("start", "off") == other.get("start", "off") == "on":
                yield design.finding(
                    "excludes-start",
                    "error",
                    (*part.path, "start"),
                    f"{part.name} excludes {name}, and both are on from power-up",
                    why="the levels at power-up are set before anything else, so both would be closed together.",
                    fixes=('start = "off" for one of the two',),
                )


RULE = DesignRule(
    code="excludes-start",
    family="links",
    severities=("error",),
    title="relays that exclude each other both start closed",
    story="""
A motor that is driven both ways, a heater and its opposite: relays that exclude each other must
never be closed together, and the moment of power-up counts, too.
""",
    failing=device(
        '[relay.up]\npin = 26\nstart = "on"\nexcludes = ["down"]\n\n[relay.down]\npin = 25\nstart = "on"'
    ),
    mended=device('[relay.up]\npin = 26\nexcludes = ["down"]\n\n[relay.down]\npin = 25'),
    find=_find,
)
