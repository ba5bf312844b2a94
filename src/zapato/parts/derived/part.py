"""A derived number: worked out from others, and treated like a reading."""

from __future__ import annotations

from collections.abc import Mapping

from zapato.lang.fields import REQUIRED, measured, number, text
from zapato.parts import treatment
from zapato.parts.kind import Action, Driver, Kind, Part, Property, ValueType

_TREATED = ("scale", "offset", "points", "smooth", "repeat", "unit")


class DerivedKind(Kind):
    """A number that follows from others, such as a difference or a sum."""

    name = "derived"
    help = "a number that follows from others, such as a difference or a sum"
    fields = (
        text(
            "of",
            "the expression, such as flow.temperature - return.temperature",
            REQUIRED,
            most=1000,
            role="condition",
        ),
        measured(
            "every",
            "worked out every so often; without it, whenever what it reads changes",
            "time",
            None,
            least=100,
        ),
        number("change", "report only a change of at least this much", 0),
        *(field for field in treatment.FIELDS if field.name in _TREATED),
    )
    actions = {"read": Action(help="work it out now")}
    wiring = "Nothing to wire: it is worked out."
    example = (
        '[sensor.flow]\nchip = "ntc"\npin = 34\n\n[sensor.back]\nchip = "ntc"\npin = 35\n\n'
        '[derived.spread]\nof = "flow.temperature - back.temperature"\nunit = "K"\nevery = "10s"\nsmooth = "mean 6"'
    )

    def properties(self, part: Part) -> Mapping[str, Property]:
        return {
            "value": Property(
                "number", part.get("unit", ""), unknown=True, help="unknown while what it reads is"
            )
        }

    def driver(self, part: Part) -> Driver:
        through = tuple(treatment.arguments(part, ("value",)))
        repeat = part.get("repeat", 0)
        return Driver(
            "derived",
            "Derived",
            (part.get("every", 0), part.get("change", 0)),
            through=through if any(through) else (),
            wraps=(("treatment", "Repeated", (repeat,)),) if repeat else (),
            watches="of",
        )

    def gives(self, part: Part) -> ValueType:
        return "number"


KIND = DerivedKind()
