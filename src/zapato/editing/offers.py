"""What can stand at a cursor: tables, keys, values, the board's free pins, names in expressions."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from dataclasses import replace
from typing import Any, Literal, cast

from zapato.boards import board, board_ids
from zapato.boards.own import site_boards
from zapato.checks.compatibility import candidates, incompatibilities
from zapato.design import Design, PinUse
from zapato.design.acts import CUT, NETWORK
from zapato.design.links import SHAPE as LINK
from zapato.design.models import SHAPE as MODEL
from zapato.design.remote_parts import RemoteParts
from zapato.design.resolve import DEVICE, outline
from zapato.design.script import HEAD, STEP
from zapato.editing.cursor import Cursor
from zapato.errors import ZapatoError
from zapato.lang.expressions import NotThere
from zapato.lang.fields import Field, Shape
from zapato.lang.folder import named
from zapato.lang.site import ETHERNET, MQTT, TIME, WIFI
from zapato.parts import kind, kinds
from zapato.parts.kind import Part, Property
from zapato.record import record

Sort = Literal["table", "key", "value", "pin", "part", "property", "action", "event", "word"]
TABLES: Mapping[str, tuple[Shape, str]] = {
    "device": (DEVICE, "the device: its name and its board"),
    "wifi": (WIFI, "the network, where it differs from the site's"),
    "mqtt": (MQTT, "the broker, where it differs from the site's"),
    "time": (TIME, "the time zone, where it differs from the site's"),
    "ethernet": (ETHERNET, "wired network in place of Wi-Fi"),
    "link": (LINK, "a rule between parts: when, if, do"),
}
"""Tables that are no parts."""
SCRIPT_TABLES: Mapping[str, tuple[Shape, str]] = {
    "rehearsal": (HEAD, "how long the rehearsal is, and when it begins"),
    "world": (Shape(()), "how the world is at the beginning: part.property = value"),
    "step": (STEP, "something that happens, or that is expected"),
    "model": (MODEL, "a room, a tank, or what else goes its own way"),
}
"""Tables of a rehearsal."""
EXPRESSIONS = ("when", "if", "do", "of", "shows", "expect", "act")
"""Keys that hold expressions."""


@record(frozen=True)
class Completion:
    """One thing that can be written at the cursor.

    Attributes:
        label: as it is listed.
        insert: what is written in place of the word there.
        detail: a few words beside it.
        help: more, where there is more to say.
        rank: the order in which they are listed.
    """

    label: str
    insert: str
    sort: Sort
    detail: str = ""
    help: str = ""
    rank: int = 0


def offers(design: Design, at: Cursor, script: bool = False) -> list[Completion]:
    """What can stand at the cursor, best first; `script`: in the device's rehearsal."""
    if script and at.where == "header":
        return [Completion(name, name, "table", help) for name, (_, help) in SCRIPT_TABLES.items()]
    give: dict[str, Callable[[Design, Cursor], Iterator[Completion]]] = {
        "header": _headers,
        "key": _keys,
        "value": _values,
        "text": _texts,
    }
    return sorted(give[at.where](design, at), key=lambda offer: offer.rank) if at.where in give else []


def shape_of(table: tuple[str, ...], given: Mapping[str, Any] | None = None) -> Shape | None:
    """The fields that a table can have, beside the keys `given`; None where it is no table of the language."""
    if not table:
        return None
    if shape := TABLES.get(table[0]) or SCRIPT_TABLES.get(table[0]):
        return shape[0]
    shape = kind(table[0])
    return None if shape is None else shape.whole_shape if given is None else shape.shape_of(given)


def field_at(at: Cursor) -> Field | None:
    """The field whose value, or key, the cursor stands in."""
    shape = shape_of(at.table)
    return shape.by_name.get(at.key or at.whole) if shape else None


def part_at(design: Design, at: Cursor) -> Part | None:
    """The part whose table the cursor stands in."""
    part = design.parts.get(at.table[1]) if len(at.table) > 1 else None
    return part if part and at.table[:1] == (part.kind.name,) else None


def _headers(design: Design, at: Cursor) -> Iterator[Completion]:
    if "." in at.word:
        return
    for name, (_, help) in TABLES.items():
        if name == "link" or name not in design.document.data:
            yield Completion(name, name, "table", help, rank=name == "link")
    for made in kinds():
        yield Completion(made.name, f"{made.name}.", "table", made.help, made.example, rank=2)


def _keys(design: Design, at: Cursor) -> Iterator[Completion]:
    if at.table == ("world",):
        for part in design.parts.values():
            simulation = part.simulation
            for name in dict.fromkeys((*simulation.stimuli, *simulation.inputs)):
                yield Completion(
                    f"{part.name}.{name}", f"{part.name}.{name} = ", "property", *_input_detail(part, name)
                )
        return
    given = _given(design, at.table)
    shape = shape_of(at.table, given)
    if shape is None:
        if not at.table:
            for word in ("zapato", "use", "with"):
                yield Completion(word, f"{word} = ", "key", "above the first table")
        return
    part = part_at(design, at)
    needed = set(part.kind.requires(part)) if part else set[str]()
    for field in shape.fields:
        if field.name not in given:
            wanted = field.required or field.name in needed
            detail = "needed" if wanted else _default(field)
            yield Completion(field.name, f"{field.name} = ", "key", detail, field.help, 0 if wanted else 1)


def _given(design: Design, table: tuple[str, ...]) -> Mapping[str, Any]:
    """The keys that a table has already; which of several links is meant is not known here."""
    value: Any = design.document.data
    for name in table:
        value = cast(dict[str, Any], value).get(name) if isinstance(value, dict) else None
    return cast(dict[str, Any], value) if isinstance(value, dict) else {}


def _default(field: Field) -> str:
    value = field.default
    plain = isinstance(value, (str, int, float)) and value != "" and not field.dimension
    return f"{value} where it is absent" if plain else ""


def _values(design: Design, at: Cursor) -> Iterator[Completion]:
    """A value without quotes yet: what is a text brings them along."""
    field = field_at(at)
    if field is None:
        return
    if field.role == "pin":
        yield from _pins(design, at, field, quoted=False)
    if field.schema.get("type") == "boolean":
        yield from (Completion(word, word, "value") for word in ("true", "false"))
    for choice in _choices(design, at, field):
        yield Completion(
            choice.label, f'"{choice.insert}"', choice.sort, choice.detail, choice.help, choice.rank
        )


def _texts(design: Design, at: Cursor) -> Iterator[Completion]:
    if at.inline == "secret":
        yield from (Completion(name, name, "value", "in secrets.toml") for name in design.site.secrets)
        return
    field = field_at(at)
    if field is not None:
        yield from _choices(design, at, field)
        if field.role == "pin":
            yield from _pins(design, at, field, quoted=True)
    if at.key in EXPRESSIONS or (field and field.role in ("condition", "texts")):
        yield from _names(design, at)


def _choices(design: Design, at: Cursor, field: Field) -> Iterator[Completion]:
    """The words that a field takes."""
    if at.table[:1] == ("device",) and field.name == "board":
        yield from _boards(design)
    elif field.name == "chip":
        yield from _chips(at)
    elif field.role in ("part", "bus"):
        for part in design.parts.values():
            if part.name not in at.table:
                yield Completion(part.name, part.name, "part", part.kind.name, part.label)
    else:
        for option in enumerated(field.schema):
            yield Completion(option, option, "value", "where it is absent" if option == field.default else "")


def enumerated(schema: Mapping[str, Any]) -> Iterator[str]:
    """The words that a field takes, by its schema."""
    yield from (option for option in schema.get("enum", ()) if isinstance(option, str))
    for combination in ("anyOf", "oneOf"):
        for branch in schema.get(combination, ()):
            yield from enumerated(branch)
    if isinstance(schema.get("items"), Mapping):
        yield from enumerated(schema["items"])


def _boards(design: Design) -> Iterator[Completion]:
    own = site_boards(design.site.root).boards
    for board_id in (*own, *board_ids()):
        with suppress(ZapatoError):
            known_board = own.get(board_id) or board(board_id)
            yield Completion(
                board_id,
                board_id,
                "value",
                known_board.title,
                f"{len(known_board.usable)} pins for parts, {known_board.chip.title}",
            )


def _chips(at: Cursor) -> Iterator[Completion]:
    if at.table[:1] != ("sensor",):
        return
    from zapato.parts.sensors import chip, chip_names

    for chip_name in chip_names():
        with suppress(ZapatoError):
            yield Completion(chip_name, chip_name, "value", chip(chip_name).help)


def _pins(design: Design, at: Cursor, field: Field, quoted: bool) -> Iterator[Completion]:
    """The board's free pins for this use, the best first, each with what speaks against it."""
    part = part_at(design, at)
    need = next((need for need in part.needs if need.field == field.name), None) if part else None
    if part is None or need is None or design.board is None:
        return
    pins = design.board.usable
    use = PinUse(part, need, part.pins.get(field.name) or pins[0])
    others = [use for use in design.uses if not (use.part is part and use.need.field == field.name)]
    without = replace(design, uses=others)  # the pin that is being chosen counts as free
    for rank, pin in enumerate(candidates(use, without)):
        problems = [problem.message for _, problem in incompatibilities(use.on(pin), without)]
        label = design.called(pin).partition("(")[2].rstrip(")")
        written = f'"{label}"' if label else str(pin.gpio)
        if quoted and not label:
            continue
        shown = f"{label} (GPIO{pin.gpio})" if label else str(pin.gpio)
        detail = problems[0] if problems else "no restriction"
        yield Completion(shown, label if quoted else written, "pin", detail, "\n".join(problems), rank)


def _names(design: Design, at: Cursor) -> Iterator[Completion]:
    """Parts, their properties, events and actions, and other devices of the site."""
    before_dot, dot, _ = at.word.rpartition(".")
    if not dot:
        for part in design.parts.values():
            yield Completion(part.name, f"{part.name}.", "part", part.kind.name, part.label)
        for name in _devices(design):
            yield Completion(name, f"{name}.", "part", "another device", rank=1)
        if at.key == "act":
            yield from (
                Completion(word, word, "word", "around the device", rank=2) for word in (*NETWORK, CUT)
            )
        if at.key == "do":
            yield Completion("notify", "notify('", "word", "a notice over MQTT", rank=1)
        return
    if before_dot in design.parts:
        yield from _members(design.parts[before_dot], before_dot, at.key)
        return
    device, dot, part_name = before_dot.partition(".")
    with suppress(NotThere, ZapatoError):
        others = design.others or RemoteParts(design, outline)
        if not dot and device in _devices(design):
            for part in others.outline(_devices(design)[device]).parts.values():
                yield Completion(part.name, f"{before_dot}.{part.name}.", "part", part.kind.name, part.label)
        elif dot:
            yield from _members(others.part(device, part_name).part, before_dot, at.key)


def _devices(design: Design) -> Mapping[str, Any]:
    root = design.site.root
    others = named(root / "devices") if root else {}
    return {name: path for name, path in others.items() if name != design.name}


def _input_detail(part: Part, name: str) -> tuple[str, str]:
    """What a rehearsal can set of a part: in a few words, and more."""
    known = part.properties.get(name)
    return (about(known), known.help) if known else ("", "")


def _acts(part: Part, before_dot: str) -> Iterator[Completion]:
    """What a rehearsal can do to a part."""
    simulation = part.simulation
    yield from (
        Completion(name, f"{before_dot}.{name}", "action", "a gesture") for name in simulation.gestures
    )
    for name in dict.fromkeys((*simulation.stimuli, *simulation.inputs)):
        yield Completion(name, f"{before_dot}.{name} = ", "property", *_input_detail(part, name), rank=1)


def _members(part: Part, before_dot: str, key: str) -> Iterator[Completion]:
    if key == "act":
        yield from _acts(part, before_dot)
        return
    if key == "do":
        for name, action in part.kind.actions_of(part).items():
            with_values = "(" if any(not argument.optional for argument in action.arguments) else ""
            yield Completion(name, f"{before_dot}.{name}{with_values}", "action", action.help)
    if key == "when":
        for name, help in part.kind.events.items():
            yield Completion(name, f"{before_dot}.{name}", "event", help)
    for name, prop in part.properties.items():
        if key != "do" or prop.settable:
            assigns = " = " if key == "do" else ""
            yield Completion(name, f"{before_dot}.{name}{assigns}", "property", about(prop), prop.help, 1)


def about(known: Property) -> str:
    """A property in a few words: its type, unit and range."""
    words = [known.type, known.unit, known.bounds, ", ".join(known.options)]
    return " ".join(filter(None, [*words, "can be set" if known.settable else ""]))


def token(text: str, line: int, column: int) -> str:
    """The dotted name that a place stands in: "gear-locker.door.closed"."""
    rows = text.split("\n")
    here = rows[line - 1] if 0 < line <= len(rows) else ""
    for match in re.finditer(r"[A-Za-z_][\w-]*(?:\.[A-Za-z_][\w-]*)*", here):
        if match.start() <= column - 1 <= match.end():
            return match[0]
    return ""
