"""Acts of a rehearsal: what happens to the world, read and checked against the design."""

from __future__ import annotations

import ast
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from zapato.design.design import Design
from zapato.design.scope import PartScope
from zapato.lang.expressions import Mistake, NotThere, offset_of, parse
from zapato.lang.fields import Wrong, nearest
from zapato.parts.kind import Part, Property, ValueType
from zapato.record import record


@record(frozen=True)
class Call:
    """An act as the runner does it: the name of its method, and arguments.

    `of` is the device whose it is, among several; ALL for every one of them, "" for what is nobody's alone.
    """

    name: str
    arguments: tuple[Any, ...] = ()
    of: str = ""


ALL = "*"
"""Every device of a rehearsal."""


NETWORK: Mapping[str, Call] = {
    "wifi.down": Call("wifi", (False,)),
    "wifi.up": Call("wifi", (True,)),
    "cable.unplugged": Call("wifi", (False,)),
    "cable.plugged": Call("wifi", (True,)),
    "broker.down": Call("server", ("up", False)),
    "broker.up": Call("server", ("up", True)),
    "broker.silent": Call("server", ("silent", True)),
    "broker.answers": Call("server", ("silent", False)),
    "broker.refuses": Call("server", ("refuses", 5)),
    "broker.accepts": Call("server", ("refuses", 0)),
    "broker.denies": Call("server", ("denies", True)),
    "broker.allows": Call("server", ("denies", False)),
    "broker.closes": Call("server", ("close", None)),
    "names.slow": Call("lookup", (8000,)),
    "names.quick": Call("lookup", (0,)),
    "time.silent": Call("tells_time", (False,)),
    "time.answers": Call("tells_time", (True,)),
    "flash.fails": Call("flash", (False,)),
    "flash.works": Call("flash", (True,)),
    "flash.cut": Call("tear", (1000,)),
}
"""What can happen around the device: the access point, the broker, the look-up of names (8 s when slow), the time server, the flash (cut: the power goes for 1 s in the middle of the next writing)."""
MESSAGES = {"message": False, "retained": True}
"""Acts that publish, and whether the broker keeps the message."""
SETTINGS = "settings"
"""The act of who stands beside the device with a phone."""
CUT = "power.cut"
OFF_FOR = 1000
"""How long a power cut lasts without `over`, ms."""


def as_felt(part: Part, key: str, value: object, folder: Path) -> tuple[object, Mistake | None]:
    """What the simulator gets where the world sets this property, or the mistake in it."""
    problem = unsettable(part, key, value)
    world_input = part.simulation.inputs.get(key)
    if problem or world_input is None:
        return value, problem
    try:
        return world_input.read(folder, value), None
    except Wrong as wrong:
        return value, Mistake(0, f"{part.name}.{key} {wrong.message}", wrong.fixes, "wrong-type")


def unreachable(design: Design, key: str, value: object) -> Mistake | None:
    """Why the world cannot set "part.property" to this value, or None."""
    name, _, word = key.partition(".")
    try:
        return unsettable(PartScope(design.parts).part(name), word, value)
    except NotThere as unknown:
        return Mistake(0, unknown.message, unknown.fixes, "link-unknown")


def unsettable(part: Part, key: str, value: object) -> Mistake | None:
    """Why the world cannot set this property to this value, or None."""
    simulation = part.simulation
    sets = simulation.stimuli
    if key not in sets:
        options = [f"{part.name}.{name}" for name in sets]
        have = (
            f"the world can set: {', '.join(options)}"
            if options
            else f"nothing of a {part.kind.name} is set by the world"
        )
        known = part.properties.get(key)
        word = str(value).lower() if isinstance(value, bool) else repr(value)
        hint = (
            f"to command it: message('{part.name}/{key}/set', '{word}')" if known and known.settable else ""
        )
        fixes = tuple(fix for fix in (hint, *nearest(f"{part.name}.{key}", options), have) if fix)
        return Mistake(0, f"the world cannot set {part.name}.{key}", fixes, "link-unknown")
    # The world has what the chip feels; after a treatment the part may call it otherwise.
    world_input = simulation.inputs.get(key)
    known = part.properties.get(key) or Property(type_of(world_input.example) if world_input else "number")
    given = type_of(value)
    if given != known.type:
        return Mistake(0, f"{part.name}.{key} is a {known.type}, not a {given}")
    if known.takes(value):
        return None
    return Mistake(
        0,
        f"{part.name}.{key} is {known.bounds} {known.unit}: the chip measures nothing else".replace(
            " :", ":"
        ),
    )


def type_of(value: object) -> ValueType:
    """The type of a value that is written."""
    return "boolean" if isinstance(value, bool) else "number" if isinstance(value, (int, float)) else "text"


def gradual(call: Call) -> bool:
    """True where the act is a number that can go to its new value little by little."""
    value = call.arguments[1] if call.name == "put" else None
    return isinstance(value, (int, float)) and not isinstance(value, bool)


def one_act(design: Design, written: str, over: int, folder: Path) -> tuple[Call | None, Mistake | None]:
    """What one act does, or the mistake in it."""
    tree, mistakes = parse(written, "exec")
    if mistakes:
        return None, mistakes[0]
    body = tree.body if isinstance(tree, ast.Module) else []
    if written.strip() in NETWORK:
        return NETWORK[written.strip()], _unreached(design, written.strip())
    if written.strip() == CUT:
        return Call("cut", (over,)), None
    if len(body) == 1 and isinstance(body[0], ast.Assign):
        return _setting(design, body[0], written, over, folder)
    if len(body) == 1 and isinstance(body[0], ast.Expr):
        value = body[0].value
        if isinstance(value, ast.Attribute) and isinstance(value.value, ast.Name):
            return _gesture(design, value.value.id, value.attr, offset_of(value, written))
        if isinstance(value, ast.Call) and isinstance(value.func, ast.Name):
            if value.func.id in MESSAGES:
                return _message(design, value, MESSAGES[value.func.id])
            if value.func.id == SETTINGS:
                return _filled_in(design, value)
    words = ", ".join((*NETWORK, CUT))
    return None, Mistake(
        0,
        "an act is part.gesture, part.property = value, message('topic', 'payload'), "
        f"settings('network', 'password'), or one of: {words}",
    )


def _filled_in(design: Design, node: ast.Call) -> tuple[Call | None, Mistake | None]:
    """Somebody gives the page of the device's access point a network."""
    given = [_value_of(argument) for argument in node.args]
    if len(given) != 2 or not all(isinstance(argument, str) for argument in given):
        return None, Mistake(
            0, "settings takes a network and its password: settings('refuge-hall', 'rehearsal')"
        )
    if design.wifi is None:
        return None, Mistake(0, "the device has no Wi-Fi, so settings(…) has no effect", ("[wifi]",))
    return Call("fill_in", tuple(given)), None


def _unreached(design: Design, act: str) -> Mistake | None:
    """Why an act on the network cannot be felt by this device, or None."""
    wired = design.wifi is not None or design.ethernet is not None
    owner = act.partition(".")[0]
    if owner in ("wifi", "cable") and wired and (owner == "cable") != (design.ethernet is not None):
        other = "cable" if owner == "wifi" else "wifi"
        return Mistake(
            0, f"the device has no {owner}", tuple(key for key in NETWORK if key.startswith(f"{other}."))
        )
    if act.startswith("time.") and design.time is None:
        return Mistake(
            0, f"the device uses no time server, so nothing changes with {act}", ("[time] with zone",)
        )
    if act.startswith("time.") and wired:
        return None
    if act.startswith("flash.") or (wired and (design.mqtt is not None or owner in ("wifi", "cable"))):
        return None
    what = "no broker" if wired else "no network"
    fix = "[mqtt] with host" if wired else "[wifi] with name"
    return Mistake(
        0,
        f"the device has {what}, so nothing changes with {act}",
        (f"{fix}, in site.toml or the device file",),
        "network-missing",
    )


def _setting(
    design: Design, node: ast.Assign, written: str, over: int, folder: Path
) -> tuple[Call | None, Mistake | None]:
    target = node.targets[0]
    if not (isinstance(target, ast.Attribute) and isinstance(target.value, ast.Name)):
        return None, Mistake(0, "a setting is written part.property = value")
    try:
        part = PartScope(design.parts).part(target.value.id)
    except NotThere as unknown:
        return None, Mistake(0, unknown.message, unknown.fixes, "link-unknown")
    value = _value_of(node.value)
    if value is None:
        return None, Mistake(offset_of(node.value, written), "the value is a number, a text, true or false")
    world_input, problem = as_felt(part, target.attr, value, folder)
    return Call("put", (f"{part.name}.{target.attr}", world_input, over)), problem


def literal(written: str) -> object:
    """The number, text or truth that is written; None where it is none of these."""
    tree, _ = parse(written)
    return _value_of(tree.body) if isinstance(tree, ast.Expression) else None


def _value_of(node: ast.expr) -> object:
    if isinstance(node, ast.Name) and node.id in ("true", "false"):
        return node.id == "true"
    try:
        value = ast.literal_eval(node)
    except (ValueError, TypeError, SyntaxError):
        return None
    return value if isinstance(value, (bool, int, float, str)) else None


def _gesture(design: Design, name: str, word: str, offset: int) -> tuple[Call | None, Mistake | None]:
    try:
        part = PartScope(design.parts).part(name)
    except NotThere as unknown:
        return None, Mistake(
            offset,
            unknown.message,
            (*unknown.fixes, f"or one of: {', '.join((*NETWORK, CUT))}"),
            "link-unknown",
        )
    acts = part.simulation.gestures
    if word not in acts:
        have = (
            f"{name} has: {', '.join(acts)}"
            if acts
            else f"a {part.kind.name} has no gestures; set its values: part.property = value"
        )
        return None, Mistake(
            offset, f"{name} has no gesture {word}", (*nearest(word, list(acts)), have), "link-unknown"
        )
    return Call("gesture", (f"{name}.{word}",)), None


def _message(design: Design, node: ast.Call, retain: bool) -> tuple[Call | None, Mistake | None]:
    given = [_value_of(argument) for argument in node.args]
    if len(given) != 2 or not isinstance(given[0], str) or not isinstance(given[1], str):
        return None, Mistake(
            0, "message takes a topic and a payload, both texts: message('heater/on/set', 'true')"
        )
    own = given[0].startswith(f"{design.site.name}/")
    topic = given[0] if own else f"{design.topic}/{given[0]}"
    return Call("message", (topic, given[1], retain)), _unreached(design, "a message")
