"""What another device says in a rehearsal in which it takes no part: the script speaks for it."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any, cast

from zapato.design.acts import Call, literal, type_of
from zapato.design.design import Design
from zapato.design.remote_parts import RemotePart
from zapato.lang.expressions import Mistake
from zapato.lang.fields import nearest
from zapato.regex import regex

_STATE = regex(r"\s*([a-z][a-z0-9-]*)\.(online|offline)\s*")
_REMOTE = regex(r"\s*([a-z][a-z0-9-]*)\.([a-z]\w*)\.([a-z]\w*)\s*(?:=(.*))?", re.DOTALL)


def devices(design: Design) -> Mapping[str, Design]:
    """The devices that this one listens to, by name."""
    return {remote.design.name: remote.design for remote in design.heard.values()}


def remote_act(design: Design, written: str) -> tuple[Call | None, Mistake | None] | None:
    """An act of another device: `gear-locker.door.closed = false`, `gear-locker.door.opened`, `gear-locker.offline`.

    None where the act is no such thing.
    """
    known = devices(design)
    state = _STATE.fullmatch(written)
    if state and state[1] in known and state[1] not in design.parts:
        return Call("message", (f"{known[state[1]].topic}/state", state[2], True)), None
    match = _REMOTE.fullmatch(written)
    if not match:
        return None
    device, part, name, value = match.groups()
    heard = design.heard.get(f"{device}.{part}")
    if heard is None:
        return None, _unheard(design, f"{device}.{part}")
    if value is not None:
        said, mistake = telling(heard, name, literal(value))
        return (Call("message", (*said, True)) if said else None), mistake
    if name in heard.events and name not in heard.part.properties:
        return Call("message", (f"{heard.topic}/{name}", "{}", False)), None
    options = [f"{heard.name}.{event}" for event in _events(heard)]
    return None, Mistake(
        0, f"{heard.name} has no event {name} that {design.name} hears", tuple(options), "link-unknown"
    )


def telling(heard: RemotePart, name: str, value: object) -> tuple[tuple[str, str] | None, Mistake | None]:
    """Topic and payload with which the other device tells this value."""
    what = f"{heard.name}.{name}"
    if name not in heard.properties:
        options = [f"{heard.name}.{prop}" for prop in heard.properties]
        return None, Mistake(
            0, f"nothing here hears {what}", nearest(what, options) or tuple(options), "link-unknown"
        )
    known = heard.part.properties[name]
    given = "" if value is None else type_of(value)
    if given != known.type:
        return None, Mistake(0, f"{what} is a {known.type}" + (f", not a {given}" if given else ""))
    if not known.takes(value):
        return None, Mistake(0, f"{what} is {known.bounds or ' or '.join(known.options)}")
    return (f"{heard.topic}/{name}", heard.says(name, value)), None


def remote_world(
    design: Design, device: str, values: object
) -> Iterator[tuple[tuple[str, ...], tuple[str, str] | Mistake]]:
    """What another device has said at the beginning: each with its keys, as topic and payload or the mistake in it."""
    yield (), (f"{devices(design)[device].topic}/state", "online")
    for part, rows in _table(values).items():
        heard = design.heard.get(f"{device}.{part}")
        if heard is None:
            yield (part,), _unheard(design, f"{device}.{part}")
            continue
        for name, value in _table(rows).items():
            said, mistake = telling(heard, name, value)
            yield (part, name), said or cast(Mistake, mistake)


def _unheard(design: Design, name: str) -> Mistake:
    options = [*design.heard]
    have = f"it hears: {', '.join(options)}" if options else ""
    return Mistake(
        0, f"{design.name} hears nothing of {name}", nearest(name, options) or (have,), "link-unknown"
    )


def _events(heard: RemotePart) -> list[str]:
    return [event for event in heard.events if event not in heard.part.properties]


def _table(value: object) -> Mapping[str, Any]:
    return cast(Mapping[str, Any], value) if isinstance(value, dict) else {}
