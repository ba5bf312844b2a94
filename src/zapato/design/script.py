"""The rehearsal file: read, checked against the design, and turned into what the stage runs."""

from __future__ import annotations

import ast
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, cast
from zoneinfo import ZoneInfo

from zapato.design.model import Design
from zapato.design.models import Model, read_models
from zapato.design.scope import PartScope
from zapato.findings import Place
from zapato.lang.document import Document
from zapato.lang.expressions import (
    Function,
    Mistake,
    NotThere,
    Read,
    compile_expression,
    offset_of,
    parse,
)
from zapato.lang.fields import REQUIRED, Field, Shape, Wrong, measured, nearest, text, whole
from zapato.lang.source import Keys, Source, table
from zapato.parts.model import Part, Property, ValueType

BEGINS = datetime(2026, 6, 1, 8)
"""A rehearsal begins on a Monday morning, where it does not say another moment."""


def _read_begins(value: object) -> datetime:
    if not isinstance(value, datetime) or value.tzinfo is not None:
        raise Wrong("takes a local date and time without quotes and zone: 2026-06-01T08:00:00")
    if not 2020 <= value.year < 2100:
        raise Wrong("lies in the years 2020 to 2099")
    return value


HEAD = Shape(
    (
        text("title", "what is rehearsed", ""),
        measured("lasts", "how long the rehearsal is, in virtual time", "time", REQUIRED, least=100),
        Field(
            "begins",
            _read_begins,
            {"type": "string"},
            "the local date and time at which it begins, without quotes: 2026-06-01T08:00:00",
            BEGINS,
        ),
        whole("seed", "of everything random: contact bounce, waiting times", 1),
    )
)


def _texts(value: object) -> tuple[str, ...]:
    items = [value] if isinstance(value, str) else cast(list[object], value)
    if not isinstance(value, (str, list)) or not items or not all(isinstance(item, str) for item in items):
        raise Wrong('takes an act, or a list of them: ["start.press", "door.closed = false"]')
    return tuple(cast(list[str], items))


STEP = Shape(
    (
        measured("at", "the moment, from the beginning", "time"),
        measured("wait", "how long after the step before", "time"),
        measured("within", "the expectation comes true no later than this after the step before", "time"),
        measured("stays", "the expectation stays true for this long", "time"),
        measured(
            "over", "the act takes this long: a value goes there evenly, the power is off for it", "time"
        ),
        Field("act", _texts, {"type": ["string", "array"]}, "what happens to the world", None),
        text("expect", "what must be true", None, most=1000),
        text("note", "what this step is about, for the story", None, most=200),
    )
)


@dataclass(frozen=True)
class Call:
    """An act as the player does it: the name of its method, and arguments."""

    name: str
    arguments: tuple[Any, ...] = ()


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


@dataclass(frozen=True)
class Step:
    """One step: an act or an expectation, and when; `code` is that of an expectation."""

    number: int
    text: str
    code: str
    act: bool
    place: Place
    at: int | None = None
    wait: int = 0
    within: int = 0
    stays: int = 0
    over: int = 0
    note: str = ""
    reads: tuple[tuple[str, str], ...] = ()
    act_call: Call | None = None


@dataclass
class Script:
    """A rehearsal file, read.

    Attributes:
        title: what is rehearsed.
        lasts: ms of virtual time; begins: the local date and time of its beginning.
        notes: what is worth knowing about it, a sentence each.
        world: what the world is like at the beginning, "part.property" -> value.
        models: what of the world follows from what the device does.
    """

    document: Document
    title: str = ""
    lasts: int = 0
    seed: int = 1
    begins: datetime = BEGINS
    notes: list[str] = field(default_factory=list[str])
    world: list[tuple[str, Any]] = field(default_factory=list[tuple[str, Any]])
    models: list[Model] = field(default_factory=list[Model])
    steps: list[Step] = field(default_factory=list[Step])


class StageScope(PartScope):
    """Expectations read the same properties as links do, from the stage instead of the program."""

    functions: Mapping[str, Function] = {"published": Function(1, 2, "w.published")}

    def read(self, part: str, name: str) -> Read:
        found = super().read(part, name)
        return Read(found.type, found.unit, f"w.read({part!r}, {name!r})", True)


def read_script(path: Path, design: Design) -> Script:
    """The rehearsal at `path` for this design; mistakes are in its document's findings. Raises Unreadable."""
    document = Document.of(Source.read(path))
    script = Script(document)
    if "rehearsal" not in document.data:
        document.found(
            "missing-key", ("rehearsal",), "the file has no [rehearsal] table with lasts", of="key"
        )
    else:
        head = document.read(HEAD, table(document.data, "rehearsal"), ("rehearsal",))
        script.title, script.lasts = head.get("title") or path.stem, head.get("lasts", 0)
        script.seed = head.get("seed", 1)
        script.begins = head.get("begins", BEGINS)
    for key in document.data.keys() - {"zapato", "rehearsal", "world", "model", "step"}:
        document.found(
            "unknown-key",
            (key,),
            f"{key} is not a table of a rehearsal",
            fixes=nearest(key, ("world", "model", "step")),
            of="key",
        )
    _world(script, design)
    script.models = read_models(
        document, StageScope(design.parts), lambda key, value: _unreachable(design, key, value)
    )
    _steps(script, design)
    _left_out(script, design)
    return script


def _left_out(script: Script, design: Design) -> None:
    """What a sensor would feel and nothing ever sets: it will not answer."""
    given = {key for key, _ in script.world} | {model.drives for model in script.models}
    given |= {
        step.act_call.arguments[0] for step in script.steps if step.act_call and step.act_call.name == "put"
    }
    for part in design.of_kind("sensor"):
        missing = [
            f"{part.name}.{key}" for key in part.kind.bench(part).sets if f"{part.name}.{key}" not in given
        ]
        if missing and "pin" not in part.pins and "bus" not in part.linked:
            continue
        if missing:
            script.notes.append(
                f"the world does not say {', '.join(missing)}, so {part.name} does not answer"
            )


def _world(script: Script, design: Design) -> None:
    for name, values in table(script.document.data, "world").items():
        part = design.parts.get(name)
        path: Keys = ("world", name)
        if part is None or not isinstance(values, dict):
            message = f"the world has part.property = value, and no part is called {name}"
            script.document.found(
                "link-unknown", path, message, fixes=nearest(name, list(design.parts)), of="key"
            )
            continue
        for key, value in cast(dict[str, Any], values).items():
            felt, problem = _felt(part, key, value, script.document.source.path.parent)
            if problem:
                script.document.found(problem.code, (*path, key), problem.message, fixes=problem.fixes)
            else:
                script.world.append((f"{name}.{key}", felt))


def _felt(part: Part, key: str, value: object, folder: Path) -> tuple[object, Mistake | None]:
    """What the stage gets where the world sets this property, or the mistake in it."""
    problem = _unsettable(part, key, value)
    felt = part.kind.bench(part).feels.get(key)
    if problem or felt is None:
        return value, problem
    try:
        return felt.read(folder, value), None
    except Wrong as wrong:
        return value, Mistake(0, f"{part.name}.{key} {wrong.message}", wrong.fixes, "wrong-type")


def _unreachable(design: Design, key: str, value: object) -> Mistake | None:
    """Why the world cannot set "part.property" to this value, or None."""
    name, _, word = key.partition(".")
    try:
        return _unsettable(PartScope(design.parts).part(name), word, value)
    except NotThere as unknown:
        return Mistake(0, unknown.message, unknown.fixes, "link-unknown")


def _unsettable(part: Part, key: str, value: object) -> Mistake | None:
    """Why the world cannot set this property to this value, or None."""
    sets = part.kind.bench(part).sets
    if key not in sets:
        options = [f"{part.name}.{each}" for each in sets]
        have = (
            f"the world can set: {', '.join(options)}"
            if options
            else f"nothing of a {part.kind.name} comes from the world"
        )
        known = part.properties.get(key)
        word = str(value).lower() if isinstance(value, bool) else repr(value)
        told = (
            f"to command it: message('{part.name}/{key}/set', '{word}')" if known and known.settable else ""
        )
        fixes = tuple(fix for fix in (told, *nearest(f"{part.name}.{key}", options), have) if fix)
        return Mistake(0, f"the world cannot set {part.name}.{key}", fixes, "link-unknown")
    # The world has what the chip feels; after a treatment the part may call it otherwise.
    felt = part.kind.bench(part).feels.get(key)
    known = part.properties.get(key) or Property(_type_of(felt.example) if felt else "number")
    given = _type_of(value)
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


def _type_of(value: object) -> ValueType:
    return "boolean" if isinstance(value, bool) else "number" if isinstance(value, (int, float)) else "text"


def _steps(script: Script, design: Design) -> None:
    document = script.document
    raw = document.data.get("step", [])
    if not isinstance(raw, list):
        document.found("wrong-type", ("step",), "a step stands in double brackets: [[step]]", of="key")
        return
    for index, fields in enumerate(cast(list[Any], raw)):
        path: Keys = ("step", index)
        if not isinstance(fields, dict):
            document.found("wrong-type", path, "a step is a table: [[step]]")
            continue
        values = document.read(STEP, cast(dict[str, Any], fields), path)
        if (values.get("act") is None) == (values.get("expect") is None):
            if "act" in values and "expect" in values:
                document.found("missing-key", path, "a step has either act or expect", of="key")
            continue
        _when(script, values, path)
        _idle(script, values, path)
        if values.get("act"):
            _acts(script, design, values, path)
        else:
            _expectation(script, design, values, path)


def _idle(script: Script, values: Mapping[str, Any], path: Keys) -> None:
    """Keys that do nothing beside the others of their step."""
    idle = [("over", "expect")] if values.get("expect") else [("within", "act"), ("stays", "act")]
    idle += [("stays", "within"), ("wait", "at")]
    for key, beside in idle:
        if values.get(key) is not None and values.get(beside) is not None:
            message = f"{key} does nothing in a step with {beside}"
            script.document.found(
                "unknown-key",
                (*path, key),
                message,
                fixes=(f"a step of its own, without {beside}",),
                of="key",
            )


def _when(script: Script, values: Mapping[str, Any], path: Keys) -> None:
    at = values.get("at")
    if at is None and "at" in values and path[1] == 0:
        script.document.found("missing-key", path, "the first step needs at", of="key")
    if at is not None and script.lasts and at > script.lasts:
        script.document.found("wrong-type", (*path, "at"), "the step comes after the rehearsal's end")


def begins_at(script: Script, design: Design) -> datetime:
    """The beginning in UTC; where an hour comes twice, its first."""
    zone = ZoneInfo((design.time or {}).get("zone") or "UTC")
    return script.begins.replace(tzinfo=zone).astimezone(UTC)


def _timing(values: Mapping[str, Any]) -> dict[str, Any]:
    at = values.get("at")
    return {"at": at, **{name: values.get(name) or 0 for name in ("wait", "within", "stays", "over")}}


def _expectation(script: Script, design: Design, values: Mapping[str, Any], path: Keys) -> None:
    written: str = values["expect"]
    expression = compile_expression(written, StageScope(design.parts))
    if not expression.mistakes and expression.value.type != "boolean":
        expression.mistakes.append(
            Mistake(0, f"an expectation is true or false, and this is a {expression.value.type}")
        )
    where = (*path, "expect")
    for mistake in expression.mistakes:
        script.document.found(
            mistake.code, where, mistake.message, fixes=mistake.fixes, offset=mistake.offset + 1
        )
    reads = tuple(dict.fromkeys(expression.reads))
    place = script.document.place(where)
    script.steps.append(
        Step(
            len(script.steps),
            written,
            expression.code,
            False,
            place,
            reads=reads,
            note=values.get("note") or "",
            **_timing(values),
        )
    )


def _acts(script: Script, design: Design, values: Mapping[str, Any], path: Keys) -> None:
    for index, written in enumerate(values["act"]):
        raw = script.document.data["step"][path[1]]["act"]
        where = (*path, "act", index) if isinstance(raw, list) else (*path, "act")
        over = values.get("over") or (OFF_FOR if written.strip() == CUT else 0)
        call, mistake = _act(design, written, over, script.document.source.path.parent)
        if mistake:
            script.document.found(
                mistake.code, where, mistake.message, fixes=mistake.fixes, offset=mistake.offset + 1
            )
        if values.get("over") and call and not (call.name == "cut" or _gradual(call)):
            message = f"over does nothing with {written}: it happens at once"
            script.document.found("unknown-key", (*path, "over"), message, of="key")
        timing: dict[str, Any] = {**_timing(values), "over": over}
        if index:
            timing |= {"at": values.get("at"), "wait": 0} if values.get("at") is not None else {"wait": 0}
        place = script.document.place(where)
        note = "" if index else values.get("note") or ""
        script.steps.append(
            Step(len(script.steps), written, "", True, place, act_call=call, note=note, **timing)
        )


def read_act(design: Design, written: str) -> tuple[Call | None, Mistake | None]:
    """What one act does, written as in a rehearsal, or the mistake in it."""
    return _act(design, written, OFF_FOR if written.strip() == CUT else 0, Path.cwd())


def _gradual(call: Call) -> bool:
    """True where the act is a number that can go to its new value little by little."""
    value = call.arguments[1] if call.name == "put" else None
    return isinstance(value, (int, float)) and not isinstance(value, bool)


def _act(design: Design, written: str, over: int, folder: Path) -> tuple[Call | None, Mistake | None]:
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
    given = [_literal(each) for each in node.args]
    if len(given) != 2 or not all(isinstance(each, str) for each in given):
        return None, Mistake(
            0, "settings takes a network and its password: settings('refuge-hall', 'rehearsal')"
        )
    if design.wifi is None:
        return None, Mistake(0, "the device has no wifi, so nobody gives it another network", ("[wifi]",))
    return Call("fill_in", tuple(given)), None


def _unreached(design: Design, act: str) -> Mistake | None:
    """Why an act on the network cannot be felt by this device, or None."""
    wired = design.wifi is not None or design.ethernet is not None
    way = act.partition(".")[0]
    if way in ("wifi", "cable") and wired and (way == "cable") != (design.ethernet is not None):
        other = "cable" if way == "wifi" else "wifi"
        return Mistake(
            0, f"the device has no {way}", tuple(key for key in NETWORK if key.startswith(f"{other}."))
        )
    if act.startswith("time.") and design.time is None:
        return Mistake(
            0, f"the device asks nobody for the time, so it feels nothing of {act}", ("[time] with zone",)
        )
    if act.startswith("time.") and wired:
        return None
    if act.startswith("flash.") or (wired and (design.mqtt is not None or way in ("wifi", "cable"))):
        return None
    what = "no broker" if wired else "no network"
    fix = "[mqtt] with host" if wired else "[wifi] with name"
    return Mistake(
        0,
        f"the device has {what}, so it feels nothing of {act}",
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
    value = _literal(node.value)
    if value is None:
        return None, Mistake(offset_of(node.value, written), "the value is a number, a text, true or false")
    felt, problem = _felt(part, target.attr, value, folder)
    return Call("put", (f"{part.name}.{target.attr}", felt, over)), problem


def _literal(node: ast.expr) -> object:
    if isinstance(node, ast.Name) and node.id in ("true", "false"):
        return node.id == "true"
    try:
        found = ast.literal_eval(node)
    except (ValueError, TypeError, SyntaxError):
        return None
    return found if isinstance(found, (bool, int, float, str)) else None


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
    acts = part.kind.bench(part).acts
    if word not in acts:
        have = (
            f"{name} has: {', '.join(acts)}"
            if acts
            else f"nobody can do anything to a {part.kind.name}; its properties are set with ="
        )
        return None, Mistake(
            offset, f"{name} has no gesture {word}", (*nearest(word, list(acts)), have), "link-unknown"
        )
    return Call("gesture", (f"{name}.{word}",)), None


def _message(design: Design, node: ast.Call, retain: bool) -> tuple[Call | None, Mistake | None]:
    given = [_literal(each) for each in node.args]
    if len(given) != 2 or not isinstance(given[0], str) or not isinstance(given[1], str):
        return None, Mistake(
            0, "message takes a topic and a payload, both texts: message('heater/on/set', 'true')"
        )
    own = given[0].startswith(f"{design.site.name}/")
    topic = given[0] if own else f"{design.topic}/{given[0]}"
    return Call("message", (topic, given[1], retain)), _unreached(design, "a message")
