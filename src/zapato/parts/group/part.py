"""A group: several parts that are switched as one."""

from __future__ import annotations

from zapato.lang.fields import REQUIRED, names
from zapato.parts.model import Driver, Kind
from zapato.parts.switched import SWITCHING, on_property

KIND = Kind(
    name="group",
    late=True,
    help="several parts that are switched as one",
    fields=(names("of", "the parts; each must be one that can be on", REQUIRED),),
    properties=on_property,
    actions=SWITCHING,
    driver=lambda part: Driver("group", "Group", (tuple(part.get("of", ())),)),
    wiring=("Nothing to wire: it switches parts that are there."),
    example='[relay.left]\npin = 26\n\n[relay.right]\npin = 25\n\n[group.both]\nof = ["left", "right"]',
)
