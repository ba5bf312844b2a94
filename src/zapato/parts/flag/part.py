"""A flag: a value that is true or false, for links and the hub to set and read."""

from __future__ import annotations

from zapato.lang.fields import boolean, or_last
from zapato.parts.held import held
from zapato.parts.model import Action, Argument, Kind
from zapato.parts.switched import on_property

KIND = Kind(
    name="flag",
    help="a value that is true or false, set by links or over MQTT",
    fields=(or_last(boolean("start", 'its value after power-up; "last" is the one before it')),),
    properties=on_property,
    actions={"set": Action((Argument("on", "boolean"),), help="set it")},
    driver=lambda part: held(part, "on", False, False, True),
    wiring=("Nothing to wire: it is a value."),
    example="[flag.away]\nstart = false",
)
