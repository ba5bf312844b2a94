"""A number: a value for links and the hub to set and read."""

from __future__ import annotations

from collections.abc import Mapping

from zapato.lang.fields import Field, number, or_last
from zapato.lang.senml import UNITS, read_unit
from zapato.parts.held import held
from zapato.parts.kind import Action, Argument, Driver, Kind, Part, Property


class NumberKind(Kind):
    """A value set by links or over MQTT."""

    name = "number"
    help = "a value set by links or over MQTT"
    fields = (
        or_last(
            number("start", 'its value after power-up, the lowest where absent; "last" is the one before it')
        ),
        number("low", "the least it can be"),
        number("high", "the most it can be"),
        Field("unit", read_unit, {"enum": sorted(UNITS)}, 'a unit of the SenML registry, such as "Cel"', ""),
    )
    actions = {"set": Action((Argument("value", "number"),), help="set it")}
    wiring = "Nothing to wire: it is a value."
    example = '[number.limit]\nstart = 22\nlow = 5\nhigh = 30\nunit = "Cel"'

    def properties(self, part: Part) -> Mapping[str, Property]:
        return {
            "value": Property(
                "number",
                part.get("unit", ""),
                settable=True,
                low=part.values.get("low"),
                high=part.values.get("high"),
                help="its value",
            )
        }

    def driver(self, part: Part) -> Driver:
        return held(part, "value", part.get("low", 0), part.values.get("low"), part.values.get("high"))


KIND = NumberKind()
