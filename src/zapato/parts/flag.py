"""A flag: a value that is true or false, for links and the hub to set and read."""

from __future__ import annotations

from zapato.lang.fields import boolean
from zapato.parts.model import Action, Argument, Driver, Kind
from zapato.parts.switched import on_property

KIND = Kind(
    name="flag",
    help="a value that is true or false, set by links or over MQTT",
    fields=(boolean("start", "its value after power-up"),),
    properties=on_property,
    actions={"set": Action((Argument("on", "boolean"),), help="set it")},
    driver=lambda part: Driver("held", "Held", ("on", bool(part.get("start", False)), False, True)),
    wiring=("Nothing to wire: it is a value."),
    example="[flag.away]\nstart = false",
)
