"""A flag: a value that is true or false, for links and the hub to set and read."""

from __future__ import annotations

from collections.abc import Mapping

from zapato.lang.fields import boolean, or_last
from zapato.parts.held import held
from zapato.parts.kind import Action, Argument, Driver, Kind, Part, Property
from zapato.parts.switched import on_property


class FlagKind(Kind):
    """A value that is true or false, set by links or over MQTT."""

    name = "flag"
    help = "a value that is true or false, set by links or over MQTT"
    fields = (or_last(boolean("start", 'its value after power-up; "last" is the one before it')),)
    actions = {"set": Action((Argument("on", "boolean"),), help="set it")}
    wiring = "Nothing to wire: it is a value."
    example = "[flag.away]\nstart = false"

    def properties(self, part: Part) -> Mapping[str, Property]:
        return on_property(part)

    def driver(self, part: Part) -> Driver | None:
        return held(part, "on", False, False, True)


KIND = FlagKind()
