"""value-treatment: scale, offset, points and the like do not go with what the chip measures."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding
from zapato.parts.sensors import chip
from zapato.parts.treatment import mistakes


def _find(design: Design) -> Iterator[Finding]:
    for part in design.with_role("sensor"):
        if name := part.get("chip", ""):
            for key, message in mistakes(part, tuple(chip(name).properties)):
                yield design.finding("value-treatment", "error", (*part.path, key), message, of="key")


RULE = DesignRule(
    code="value-treatment",
    family="resources",
    severities=("error",),
    title="a scale, an offset or a line of points does not go with what the chip measures",
    story="""
A reading may go through a scale, an offset, a line of points and a smoothing before it counts. Where
a chip measures several things, a number alone does not say which of them it is for: a table does,
`offset = { temperature = -0.7 }`. A line of points, another unit and another name are for chips that
measure one thing.
""",
    failing=device('[sensor.room]\nchip = "dht22"\npin = 27\noffset = -0.7'),
    mended=device('[sensor.room]\nchip = "dht22"\npin = 27\noffset = { temperature = -0.7 }'),
    find=_find,
)
