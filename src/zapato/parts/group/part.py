"""A group: several parts that are switched as one."""

from __future__ import annotations

from collections.abc import Mapping

from zapato.lang.fields import REQUIRED, names
from zapato.parts.kind import Driver, Kind, Part, Property
from zapato.parts.switched import SWITCHING, on_property


class GroupKind(Kind):
    """Several parts that are switched as one."""

    name = "group"
    late = True
    help = "several parts that are switched as one"
    fields = (names("of", "the parts; each must be one that can be on", REQUIRED),)
    actions = SWITCHING
    wiring = "Nothing to wire: it switches parts that are there."
    example = '[relay.left]\npin = 26\n\n[relay.right]\npin = 25\n\n[group.both]\nof = ["left", "right"]'

    def properties(self, part: Part) -> Mapping[str, Property]:
        return on_property(part)

    def driver(self, part: Part) -> Driver | None:
        return Driver("group", "Group", (tuple(part.get("of", ())),))


KIND = GroupKind()
