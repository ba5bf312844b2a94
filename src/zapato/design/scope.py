"""What the expressions of a device may read: the properties of its parts, and the time of day."""

from __future__ import annotations

from collections.abc import Mapping

from zapato.design.remote_parts import UNHEARD, RemoteParts
from zapato.lang.expressions import Function, NotThere, Read
from zapato.lang.fields import nearest
from zapato.lang.hours import days, moment
from zapato.parts.kind import Part

CLOCK = "d.clock"
"""The device's clock in device code."""
HOURS: Mapping[str, Function] = {
    "between": Function(
        2, 2, f"{CLOCK}.between", argument=lambda text: moment(text).code, guard=f"{CLOCK}.day"
    ),
    "weekday": Function(
        1, 1, f"{CLOCK}.weekday", argument=lambda text: str(days(text)), guard=f"{CLOCK}.day"
    ),
}
"""Functions that read the time of day; false while nobody has told the device the time."""


class PartScope:
    """Expressions read the parts of one device."""

    functions: Mapping[str, Function] = HOURS

    def __init__(self, parts: Mapping[str, Part], others: RemoteParts | None = None) -> None:
        self.parts, self.others = parts, others

    def read(self, part: str, name: str) -> Read:
        known_part = self.part(part)
        known = known_part.properties.get(name)
        if known is None and "chip" in known_part.kind.shape.by_name and not known_part.values.get("chip"):
            return Read("?", "", f"p_{part}.{name}", False)  # its chip is the mistake, and is told
        if known is None:
            what = f"{part} has no property {name}" if name else f"{part} alone has no value"
            raise NotThere(what, self._instead(known_part, name))
        return Read(known.type, known.unit, f"p_{part}.{name}", known.unknown)

    def remote(self, device: str, part: str, name: str) -> Read:
        if self.others is None or (not self.others.has(device) and {device, part} & self.parts.keys()):
            fixes = (f"the part's name alone: {part}.{name}",)
            raise NotThere("a property is written part.property", fixes, "link-type")
        heard = self.others.part(device, part)
        known = heard.part.properties.get(name)
        if known is None:
            raise NotThere(f"{heard.name} has no property {name}", self._instead(heard.part, name, device))
        if known.wanted:
            message = f"{heard.name}.{name} is there for links of {device} itself alone"
            raise NotThere(message, (), UNHEARD)
        return Read(known.type, known.unit, f"{heard.code}.{name}", True)

    def ask(self, part: str, name: str) -> None:
        """Something reads this property: the part is told, here or on another device."""
        if part in self.parts:
            self.parts[part].asked.add(name)
        elif self.others and "." in part:
            self.others.listen(part, name)

    def part(self, name: str) -> Part:
        """The part of this name. Raises NotThere with the nearest name."""
        part = self.parts.get(name)
        if part is None:
            have = f"parts: {', '.join(self.parts)}" if self.parts else "the device has no parts yet"
            raise NotThere(f"no part is called {name}", nearest(name, list(self.parts)) or (have,))
        return part

    @staticmethod
    def _instead(part: Part, name: str, device: str = "") -> tuple[str, ...]:
        dotted_name = f"{device}.{part.name}" if device else part.name
        options = [f"{dotted_name}.{prop}" for prop in part.properties]
        near = nearest(f"{dotted_name}.{name}", options) if name else ()
        if name in part.kind.events:
            return (f"{dotted_name}.{name} is an event: it can stand alone in when, not in a condition",)
        return near or ((f"it has: {', '.join(options)}",) if options else ())
