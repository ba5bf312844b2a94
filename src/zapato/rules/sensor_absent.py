"""sensor-absent: a sensor inside the chip, on a chip that has none."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding
from zapato.parts.sensors import chip


def _find(design: Design) -> Iterator[Finding]:
    if design.board is None:
        return
    silicon = design.board.chip
    for part in design.with_role("sensor"):
        name = part.get("chip", "")
        if not name or not chip(name).only or silicon.id in chip(name).only:
            continue
        yield design.finding(
            "sensor-absent",
            "error",
            (*part.path, "chip"),
            f"{part.id} reads {chip(name).help}, and the {silicon.title} has no sensor for it",
            why=f"this sensor is part of the silicon of some chips only ({chip(name).source}).",
            fixes=("a sensor on a pin or a bus", f"a board with one of: {', '.join(chip(name).only)}"),
        )


RULE = DesignRule(
    code="sensor-absent",
    family="resources",
    severities=("error",),
    title="the chip has no such sensor inside",
    story="""
`chip = "die"` reads the temperature of the silicon itself, which most chips measure inside. The
ESP8266 does not.
""",
    failing=device('[sensor.chip]\nchip = "die"', "esp8266-30pin"),
    mended=device('[sensor.chip]\nchip = "die"', "esp32c3-mini"),
    find=_find,
)
