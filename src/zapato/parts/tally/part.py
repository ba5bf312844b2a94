"""A tally: how often, how long or how much, altogether and today."""

from __future__ import annotations

from collections.abc import Mapping

from zapato.lang.fields import REQUIRED, boolean, choice, text
from zapato.parts.kind import Action, Driver, Kind, Part, Property, ValueType

COUNTS = {"times": 0, "time": 1, "growth": 2}
_UNITS = {"times": "count", "time": "s", "growth": ""}


class TallyKind(Kind):
    """How often or how long something was true, or how much a number grew; kept through power cuts."""

    name = "tally"
    help = "how often or how long something was true, or how much a number grew; kept through power cuts"
    fields = (
        text(
            "of",
            "the condition, such as pump.on; with growth, the number",
            REQUIRED,
            most=1000,
            role="condition",
        ),
        choice(
            "counts",
            "times: how often it came true; time: how long it was, in s; growth: by how much a number rose",
            *COUNTS,
            default="times",
        ),
        boolean("daily", "keep a total of the day, too; needs the time of day", False),
    )
    actions = {"clear": Action(help="begin anew at nothing")}
    wiring = "Nothing to wire: it counts what other parts do."
    example = '[relay.pump]\npin = 26\n\n[tally.pump_hours]\nof = "pump.on"\ncounts = "time"'

    def properties(self, part: Part) -> Mapping[str, Property]:
        unit = _UNITS[part.get("counts", "times")]
        properties = {"total": Property("number", unit, help="altogether, since it was last cleared")}
        if part.get("daily", False):
            properties["today"] = Property("number", unit, help="since midnight")
        return properties

    def gives(self, part: Part) -> ValueType:
        return "number" if part.get("counts", "times") == "growth" else "boolean"

    def driver(self, part: Part) -> Driver | None:
        return Driver(
            "tally",
            "Tally",
            (COUNTS[part.get("counts", "times")], bool(part.get("daily", False))),
            watches="of",
            writes=288,  # once in 5 min
        )


KIND = TallyKind()
