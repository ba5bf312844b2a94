"""The other devices of a site, as far as what one of them says may be read by this one.

A remote device's file is read without pins and links (`design.resolve.outline`), so that two devices may read each other.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import field
from pathlib import Path
from typing import TYPE_CHECKING

from zapato.errors import Unreadable
from zapato.lang.expressions import NotThere
from zapato.lang.fields import nearest
from zapato.lang.folder import device_file, named
from zapato.lang.senml import key_of
from zapato.lang.site import Site
from zapato.record import record

if TYPE_CHECKING:
    from zapato.design.design import Design
    from zapato.parts.kind import Part

UNHEARD = "link-unheard"
"""The code of a reading that no message can bring."""


@record
class RemotePart:
    """A part of another device that this one listens to.

    Attributes:
        design: that device, without its pins and links.
        part: the part.
        properties, events: what of it is heard, in the order of the file.
    """

    design: Design
    part: Part
    properties: list[str] = field(default_factory=list[str])
    events: list[str] = field(default_factory=list[str])

    @property
    def name(self) -> str:
        """How the device's links call it: "gear-locker.door"."""
        return f"{self.design.name}.{self.part.name}"

    @property
    def code(self) -> str:
        """Its object on the device; no name of ours has a capital."""
        return f"q_{self.design.name.replace('-', 'Z')}_{self.part.name}"

    @property
    def topic(self) -> str:
        """Its topics begin with this."""
        return f"{self.design.topic}/{self.part.name}"

    def says(self, name: str, value: object) -> str:
        """The payload with which the other device tells a value."""
        if (self.design.mqtt or {}).get("report") != "senml":
            return json.dumps(value)
        return json.dumps([{"n": f"{self.topic}/{name}", key_of(value): value}])


class RemoteParts:
    """The devices of a site around one of them. `outline` reads a device file without its pins and links."""

    def __init__(self, design: Design, outline: Callable[[Path], Design]) -> None:
        self.own, self.outline = design, outline
        self.heard: dict[str, RemotePart] = {}
        """What is listened to, by "device.part"."""
        self.asked = False
        """Whether another device was named, there or not."""
        self.looked: dict[Path, Design | None] = {}
        """The files of other devices that were read; None where that failed."""
        self._known: dict[str, Design] = {}

    def has(self, device: str) -> bool:
        """Whether the site has a device of this name."""
        root = self.own.site.root
        self.asked = True
        return device == self.own.name or (
            root is not None and device_file(root / "devices", device) is not None
        )

    def part(self, device: str, name: str) -> RemotePart:
        """A part of another device. Raises NotThere."""
        if device == self.own.name:
            raise NotThere("this is the device itself", (f"the part's name alone: {name}",), "link-type")
        design = self._known.get(device) or self._design(device)
        part = design.parts.get(name)
        if part is None:
            have = f"parts of {device}: {', '.join(design.parts)}"
            raise NotThere(f"{device} has no part {name}", nearest(name, list(design.parts)) or (have,))
        return self.heard.get(f"{device}.{name}") or RemotePart(design, part)

    def listen(self, name: str, what: str) -> None:
        """Something of another device is listened to: "gear-locker.door" and its property or event."""
        device, _, part = name.partition(".")
        remote = self.heard.setdefault(name, self.part(device, part))
        into = remote.properties if what in remote.part.properties else remote.events
        if what not in into:
            into.append(what)

    def listen_event(self, name: str, event: str) -> None:
        """An event is listened to; one that a property says too, by that property."""
        self.listen(name, event)
        events = self.heard[name].events
        if event not in events:
            events.append(event)

    def _design(self, device: str) -> Design:
        site: Site = self.own.site
        self.asked = True
        if site.root is None:
            message = "other devices can be named in a site alone, and this file belongs to none"
            raise NotThere(message, ("site.toml beside the folder devices/",), UNHEARD)
        path = device_file(site.root / "devices", device)
        if path is None:
            devices = named(site.root / "devices")
            near = nearest(device, [device for device in devices if device != self.own.name])
            raise NotThere(f"no device of this site is called {device}", near)
        self.looked[path] = None
        try:
            design = self.looked[path] = self.outline(path)
        except Unreadable as error:
            raise NotThere(str(error)) from None
        self._reached(design)
        self._known[device] = design
        return design

    def _reached(self, other: Design) -> None:
        """Both speak to one broker. Raises NotThere."""
        for device in (self.own, other):
            if device.mqtt is None:
                message = f"{device.name} has no broker, and what devices hear of each other goes over it"
                raise NotThere(message, ("[mqtt] with host, in site.toml or in its file",), UNHEARD)
        one, two = ((device.mqtt or {}).get("host") for device in (self.own, other))
        if one != two:
            raise NotThere(f"{other.name} speaks to another broker than {self.own.name}", (), UNHEARD)
