"""What of the runtime a design needs on its device."""

from __future__ import annotations

import re

from zapato.design.model import Design
from zapato.parts.model import Driver, Part


def drivers(design: Design) -> dict[str, Driver]:
    """The driver of each part that has one, by the part's name."""
    standing = (part for part in design.parts.values() if part.placed and part.driven)
    found = {part.name: part.kind.driver(part) for part in standing}
    return {name: driver for name, driver in found.items() if driver}


def follows(part: Part) -> bool:
    """True where a part shows an expression all the time."""
    return part.get("shows", "") not in ("", "status")


def offered(design: Design) -> bool:
    """True where some part stands on a pin that another part offers."""
    return any(use.pin.gpio < 0 for use in design.uses)


def looked_up(host: str) -> bool:
    """True for a name that a DNS server knows: no address, and no name of the link (RFC 6762)."""
    return not re.fullmatch(r"[0-9.]*", host) and not host.endswith(".local")


def runtime_modules(design: Design) -> tuple[str, ...]:
    """The runtime modules that this device needs, and no others, sorted."""
    found = {"loop", "values"}
    for driver in drivers(design).values():
        found |= {driver.module, *driver.also}
    if found & {"relay", "relay_kept", "led"}:
        found.add("output")
    if found & {"output", "switch", "blind"}:
        found.add("pins")
    if design.links or any(follows(part) for part in design.parts.values()):
        found.add("links")
    if any("show(" in command.code for link in design.links for command in link.commands):
        found.add("texts")
    if design.wifi is not None:
        found |= {"net"} | ({"mqtt"} if design.mqtt is not None else set[str]())
        if design.mqtt is not None and looked_up(str(design.mqtt.get("host") or "")):
            found.add("names")
    return tuple(sorted(found))
