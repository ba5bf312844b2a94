"""sensor-too-fast: a sensor is read more often than its chip can measure."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding
from zapato.lang.units import shown_time
from zapato.parts.sensors import chip


def _find(design: Design) -> Iterator[Finding]:
    for part in design.with_role("sensor"):
        name, every = part.get("chip", ""), part.values.get("every")
        fastest = chip(name).fastest if name else 0
        if every is not None and every < fastest:
            least = shown_time(fastest)
            yield design.finding(
                "sensor-too-fast",
                "warning",
                (*part.path, "every"),
                f"{part.id} is read every {shown_time(every)}, and a {name} measures once in {least}",
                why=f"readings in between repeat the last one or fail ({chip(name).source}).",
                fixes=(f'every = "{least.replace(" ", "")}" or more',),
            )


RULE = DesignRule(
    code="sensor-too-fast",
    family="electrical",
    severities=("warning",),
    title="the sensor is read more often than it can measure",
    story="""
Every sensor chip needs its time for one measurement; a DHT22 takes two seconds from one to the
next. Read more often it repeats itself or does not answer, and some chips warm up and measure their own heat.
""",
    failing=device('[sensor.cabinet]\nchip = "dht22"\npin = 27\nevery = "500ms"'),
    mended=device('[sensor.cabinet]\nchip = "dht22"\npin = 27\nevery = "5s"'),
    find=_find,
)
