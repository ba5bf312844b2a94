"""The rehearsal of a site: several devices in one time, each named before what is its own."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any, cast

from zapato.design.acts import ALL, CUT, MESSAGES, NETWORK, Call, one_act, unreachable
from zapato.design.design import Design
from zapato.design.scope import PartScope
from zapato.design.script import HEAD, Script, part_world, read_scenes
from zapato.lang.expressions import Function, Mistake, NotThere, Read
from zapato.lang.fields import Shape, names, nearest
from zapato.lang.source import Keys, table
from zapato.regex import regex

FILE = "site.toml"
"""A site's rehearsal, in its folder rehearsals/."""
SITE_HEAD = Shape(
    (
        *HEAD.fields,
        names(
            "devices",
            "in a site's rehearsal, who takes part; by default those that the file names, and those they listen to",
            (),
            role="",
        ),
    )
)
_OWN = regex(r"(\s*([a-z][a-z0-9-]*)\.)(.+)", re.DOTALL)
"""A device, and what of it."""
_WAYS = ("wifi", "cable", "names", "time", "flash")
"""What happens around a device, and around all of them where none is named."""


class SiteScriptScope:
    """Expectations of a site: "device.part.property", read in the simulator."""

    functions: Mapping[str, Function] = {"published": Function(1, 2, "w.published")}

    def __init__(self, designs: Mapping[str, Design]) -> None:
        self.designs = designs

    def read(self, part: str, name: str) -> Read:
        near = [f"{d}.{part}.{name}" for d, design in self.designs.items() if part in design.parts][:3]
        raise NotThere("in a site's rehearsal a property is written device.part.property", tuple(near))

    def remote(self, device: str, part: str, name: str) -> Read:
        known = PartScope(self._design(device).parts).read(part, name)
        return Read(known.type, known.unit, f"w.read({f'{device}.{part}'!r}, {name!r})", True)

    def _design(self, device: str) -> Design:
        if device not in self.designs:
            have = f"devices: {', '.join(self.designs)}"
            message = f"no device of this site is called {device}"
            raise NotThere(message, nearest(device, list(self.designs)) or (have,))
        return self.designs[device]


class SiteDevices:
    """The devices of a site in one simulation."""

    def __init__(self, designs: Mapping[str, Design]) -> None:
        self.designs = designs
        self.scope = SiteScriptScope(self.designs)

    def act(self, written: str, over: int, folder: Path) -> tuple[Call | None, Mistake | None]:
        bare = written.strip()
        if bare == CUT:
            return Call("cut", (over,), ALL), None
        if bare in NETWORK:
            return replace(NETWORK[bare], of=ALL if bare.partition(".")[0] in _WAYS else ""), None
        if bare.partition("(")[0].rstrip() in MESSAGES:
            return self._message(written, over, folder)
        own = _OWN.fullmatch(written)
        design = self.designs.get(own[2]) if own else None
        if own is None or design is None:
            near = nearest(own[2], list(self.designs)) if own else ()
            ways = f"device.part.gesture, device.part.property = value, device.{CUT}, device.wifi.down, message(…), or for all: {CUT}, {', '.join(NETWORK)}"
            return None, Mistake(
                0, f"an act of a site is {ways}", near, "link-unknown" if near else "link-type"
            )
        if own[3].strip() in NETWORK and own[3].partition(".")[0].strip() not in _WAYS:
            return None, Mistake(
                0, f"all devices share the broker: write {own[3].strip()}", (own[3].strip(),)
            )
        call, mistake = one_act(design, own[3], over, folder)
        if mistake:
            mistake.offset += len(own[1])
            mistake.fixes = tuple(_with_device(fix, design) for fix in mistake.fixes)
        return (replace(call, of=design.name) if call else None), mistake

    def _message(self, written: str, over: int, folder: Path) -> tuple[Call | None, Mistake | None]:
        """A message at the broker; a topic without the site's name before it gets that."""
        design = next((design for design in self.designs.values() if design.mqtt is not None), None)
        if design is None:
            return None, Mistake(0, "no device of this site has a broker", ("[mqtt] with host",))
        call, mistake = one_act(design, written, over, folder)
        if call:
            topic, *rest = call.arguments
            topic = whole_topic(self.designs, topic.removeprefix(f"{design.topic}/"))
            call = Call(call.name, (topic, *rest))
        return call, mistake

    def unreachable(self, key: str, value: object) -> Mistake | None:
        device, _, rest = key.partition(".")
        design = self.designs.get(device)
        if design is None or rest.count(".") != 1:
            near = nearest(device, list(self.designs))
            return Mistake(0, "in a site's rehearsal this is device.part.property", near, "link-unknown")
        return unreachable(design, rest, value)

    def world(self, script: Script) -> None:
        for name, values in table(script.document.data, "world").items():
            path: Keys = ("world", name)
            design = self.designs.get(name)
            if design is None or not isinstance(values, dict):
                message = "the world of a site has device.part.property = value" + (
                    "" if design else f", and no device is called {name}"
                )
                script.document.found(
                    "link-unknown", path, message, fixes=nearest(name, list(self.designs)), of="key"
                )
                continue
            for part, rows in cast(dict[str, Any], values).items():
                known = part_world(script, design, part, rows, (*path, part))
                script.world += [(f"{name}.{key}", value) for key, value in known]


def _with_device(fix: str, design: Design) -> str:
    """A way out with a message to the device, as a site's rehearsal writes it."""
    return fix.replace("message('", f"message('{design.name}/")


def whole_topic(designs: Mapping[str, Design], written: str) -> str:
    """A topic as a site's rehearsal writes it: behind a device's name, or behind the site's."""
    first, _, rest = written.partition("/")
    if first in designs:
        return f"{designs[first].topic}/{rest}"
    site = next((design.site.name for design in designs.values()), "")
    if written.startswith(f"{site}/"):
        return written
    own = any(written.startswith(f"{design.topic}/") for design in designs.values())
    return written if own else f"{site}/{written}"


def read_site_script(path: Path, designs: Mapping[str, Design]) -> Script:
    """The rehearsal of devices, by name, at `path`; mistakes are in its document's findings. Raises Unreadable."""
    script = read_scenes(path, SiteDevices(designs), SITE_HEAD)
    for index, name in enumerate(script.devices):
        if name not in designs:
            place: Keys = ("rehearsal", "devices", index)
            message = f"no device of this site is called {name}"
            script.document.found("link-unknown", place, message, fixes=nearest(name, sorted(designs)))
    named = _named(script, designs)
    if left_out := sorted(named - {*script.devices}) if script.devices else []:
        place = ("rehearsal", "devices")
        message = (
            f"{', '.join(left_out)} {'is' if len(left_out) == 1 else 'are'} in this file, and not among them"
        )
        script.document.found(
            "link-unknown", place, message, fixes=("without devices, all that are named take part",)
        )
    part = {*script.devices} or _with_heard(named, designs) or {*designs}
    script.devices = tuple(name for name in designs if name in part)
    return script


def _named(script: Script, designs: Mapping[str, Design]) -> set[str]:
    """The devices that the file's world, models and steps name."""
    named = {key.partition(".")[0] for key, _ in script.world}
    named |= {model.drives.partition(".")[0] for model in script.models}
    named |= {step.act_call.of for step in script.steps if step.act_call}
    named |= {part.partition(".")[0] for step in script.steps for part, _ in step.reads}
    return {name for name in named if name in designs}


def _with_heard(named: set[str], designs: Mapping[str, Design]) -> set[str]:
    """These devices, those that they listen to, and so on."""
    whole, new = set[str](), named
    while new:
        whole |= new
        heard = {remote.design.name for name in new for remote in designs[name].heard.values()}
        new = {name for name in heard if name in designs} - whole
    return whole
