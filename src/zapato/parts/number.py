"""A number: a value for links and the hub to set and read."""

from __future__ import annotations

from zapato.lang.fields import number, text
from zapato.parts.model import Action, Argument, Driver, Kind, Part, Property


def _driver(part: Part) -> Driver:
    start = part.get("start", part.get("low", 0))
    return Driver("held", "Held", ("value", start, part.values.get("low"), part.values.get("high")))


KIND = Kind(
    name="number",
    help="a value set by links or over MQTT",
    fields=(
        number("start", "its value after power-up; the lowest where absent"),
        number("low", "the least it can be"),
        number("high", "the most it can be"),
        text("unit", 'a unit of the SenML registry (RFC 8428), such as "Cel"', ""),
    ),
    properties=lambda part: {
        "value": Property(
            "number",
            part.get("unit", ""),
            settable=True,
            low=part.values.get("low"),
            high=part.values.get("high"),
            help="its value",
        )
    },
    actions={"set": Action((Argument("value", "number"),), help="set it")},
    driver=_driver,
    example='[number.limit]\nstart = 22\nlow = 5\nhigh = 30\nunit = "Cel"',
)
