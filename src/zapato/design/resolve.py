"""From a device file to a design: parts, pins, buses and links, every mistake found on the way."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from itertools import chain, count
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

from zapato.boards import board
from zapato.boards.board import Board, Pin
from zapato.boards.own import site_boards
from zapato.design.design import Design, PinUse
from zapato.design.links import read_conditions, read_links
from zapato.design.remote_parts import RemoteParts
from zapato.design.tables import with_table
from zapato.errors import UnknownName
from zapato.lang.document import REMOVE, Document
from zapato.lang.fields import AUTO, REQUIRED, Shape, named, nearest, text
from zapato.lang.folder import settled
from zapato.lang.pieces import with_pieces
from zapato.lang.site import NAME, NAME_WORDS, Site, ethernet_table, network_tables, site_of, time_table
from zapato.lang.source import Keys, Source, table
from zapato.parts import Part, kind, kind_names
from zapato.parts.kind import Kind
from zapato.regex import regex

if TYPE_CHECKING:
    from zapato.lang.tables import MqttTable, WifiTable

DEVICE = Shape(
    (
        named("name", "unique in the site, for machines", NAME, NAME_WORDS),
        text("label", "the name for people"),
        text("board", "the board it runs on; `zapato boards` lists them", REQUIRED),
        text("room", "where it is"),
        named(
            "version",
            "version of this device's firmware, set by you",
            r"[0-9]+(?:\.[0-9]+){0,2}",
            "a version is one to three numbers with dots: 1.4.0",
            "1.0.0",
        ),
    )
)
OWN = ("device", "update")
"""Names in topics and links that are the device's own."""
RESERVED = ("zapato", "device", "use", "with", "wifi", "mqtt", "time", "ethernet", "link")
"""Top-level words that are not kinds."""

LANGUAGE = 1
"""The language version that this program reads."""

PART_NAME = regex(r"[a-z][a-z0-9_]{0,30}")


def resolve(path: Path, source: Source | None = None) -> Design:
    """The design of the device file at `path`; mistakes are in its findings. `source` is what was read there. Raises Unreadable."""
    site = site_of(path)
    document = Document.of(source or Source.read(path), site.secrets)
    document = with_pieces(document, _root(site, document))
    design = Design(document, site)
    _language(document)
    _device(design)
    design.wifi, design.mqtt = _network(design)
    design.time = time_table(document) or site.time
    _parts(design)
    for part in design.parts.values():
        _place(design, part)
    design.others = RemoteParts(design, outline)
    design.links = read_links(document, design.scope)
    read_conditions(document, design.scope)
    design.freeze()
    return design


def resolve_all(paths: Iterable[Path]) -> list[Design]:
    """The designs of many files, read in one go. Raises Unreadable."""
    with settled():
        return [resolve(path) for path in paths]


def _root(site: Site, document: Document) -> Path:
    """The site's folder; without one, that of the file."""
    return site.root or document.source.path.absolute().parent


def outline(path: Path) -> Design:
    """The device with its parts, without their pins and links: what others of its site can read. Raises Unreadable."""
    site = site_of(path)
    document = Document.of(Source.read(path), site.secrets)
    document = with_pieces(document, _root(site, document))
    design = Design(document, site)
    _device(design)
    design.wifi, design.mqtt = _network(design)
    _parts(design)
    return design


def sketch(path: Path) -> Design:
    """The device's name, board and network alone: what others of its site can clash with. Raises Unreadable."""
    site = site_of(path)
    document = Document.of(Source.read(path), site.secrets)
    if document.source.row:
        document = with_pieces(document, _root(site, document))
    design = Design(document, site)
    _device(design)
    design.wifi, design.mqtt = _network(design)
    return design


def _language(document: Document) -> None:
    version: object = document.data.get("zapato")
    if document.source.problem or not document.data:
        if not document.findings:
            document.found(
                "missing-key",
                (),
                "the file is empty",
                fixes=("zapato new NAME --board BOARD writes one to start from",),
            )
    elif version is None:
        document.found(
            "missing-key", (), "the file does not say its language version", fixes=("first line: zapato = 1",)
        )
    elif version is True or version != LANGUAGE:
        document.found(
            "wrong-type",
            ("zapato",),
            f"language version {version!r} is not one this program reads",
            fixes=("zapato = 1",),
        )


def _device(design: Design) -> None:
    document = design.document
    raw = document.data.get("device")
    if not isinstance(raw, dict):
        if document.data:
            document.found(
                "missing-key", ("device",), "the file has no [device] table with name and board", of="key"
            )
        return
    values = document.read(DEVICE, cast(dict[str, Any], raw), ("device",))
    design.name = values.get("name", "")
    design.label = values.get("label") or design.name.replace("-", " ").capitalize()
    design.room, design.version = values.get("room") or "", values.get("version") or "1.0.0"
    if "board" in values:
        try:
            own = site_boards(design.site.root).boards
            design.board = own.get(values["board"]) or board(values["board"])
        except UnknownName as unknown:
            document.found(
                "unknown-board",
                ("device", "board"),
                str(unknown),
                fixes=(unknown.fix,),
            )


def _network(design: Design) -> tuple[WifiTable | None, MqttTable | None]:
    wifi, mqtt = network_tables(design.document, design.site.wifi, design.site.mqtt)
    design.ethernet = ethernet_table(design.document)
    return None if design.ethernet is not None else wifi or design.site.wifi, mqtt or design.site.mqtt


def _parts(design: Design) -> None:
    document = design.document
    for word, value in document.data.items():
        if word in RESERVED:
            continue
        kind_of_table = kind(word)
        if kind_of_table is None:
            _unknown_kind(document, word, value)
        elif not isinstance(value, dict):
            document.found("wrong-type", (word,), f"a {word} is a table with a name: [{word}.NAME]", of="key")
        else:
            for name, fields in cast(dict[str, Any], value).items():
                _part(design, kind_of_table, name, fields)


def _unknown_kind(document: Document, word: str, value: object) -> None:
    if isinstance(value, dict):
        fixes = nearest(word, (*kind_names(), *RESERVED)) or (f"kinds: {', '.join(kind_names())}",)
        document.found("unknown-kind", (word,), f"{word} is not a kind of part", fixes=fixes, of="key")
    else:
        document.found(
            "unknown-key",
            (word,),
            f"{word} does not belong outside a table",
            fixes=nearest(word, RESERVED),
            of="key",
        )


def _part(design: Design, kind: Kind, name: str, fields: object) -> None:
    document, path = design.document, (kind.name, name)
    if not isinstance(fields, dict):
        message = f"[{kind.name}] needs a name: [{kind.name}.NAME]"
        document.found(
            "missing-key",
            (kind.name,),
            message,
            fixes=(f"[{kind.name}.{_suggested(kind.name)}]",),
            of="key",
        )
        return
    if not PART_NAME.fullmatch(name):
        message = f"the part's name is \"{name}\"; a part's name has 1 to 31 of a-z, 0-9 and _, and starts with a letter"
        better = re.sub(r"[^a-z0-9]+", "_", name.lower()).strip("_0123456789")
        document.found("bad-name", path, message, fixes=(better and f"[{kind.name}.{better}]",), of="key")
    if name in OWN:
        message = f"the name {name} is reserved: commands to the device itself use it"
        document.found("name-taken", path, message, fixes=(f"[{kind.name}.{name}_2]",), of="key")
        return
    if name in design.parts:
        other = design.parts[name]
        message = f"the name {name} is taken by [{other.id}]; a name is unique over all kinds"
        document.found("name-taken", path, message, fixes=(f"[{kind.name}.{name}_2]",), of="key")
        return
    if kind.rows:
        fields = with_table(design, path, cast(dict[str, Any], fields), kind.rows)
    values = document.read(kind.shape_of(cast(dict[str, Any], fields)), cast(dict[str, Any], fields), path)
    part = cast(dict[str, Part], design.parts)[name] = Part(kind, name, values)
    for need in kind.requires(part):
        if values.get(need) is None and need not in cast(dict[str, Any], fields):
            document.missing(
                part.shape.by_name[need], path, _BUSES.get(kind.bus(part), ()) if need == "bus" else ()
            )


_BUSES = {
    "onewire": ('bus = "main", and a table for it: [onewire.main] with pin and pull_up = "4.7kohm"',),
    "spi": ('bus = "main", and a table for it: [spi.main] with sck, mosi and miso',),
}
"""What to write for a bus that is missing, where it is no I2C bus."""


def _suggested(word: str) -> str:
    return {"relay": "lamp", "button": "start", "led": "ready", "sensor": "room"}.get(word, "main")


def _place(design: Design, part: Part) -> None:
    """Find the part's pins and the parts it refers to."""
    if design.board is not None:
        for need in part.needs:
            given = part.values.get(need.field)
            if given is None or given == AUTO:
                continue
            if pin := _pin(design, part, need.field, given):
                part.pins[need.field] = pin
                cast(list[PinUse], design.uses).append(PinUse(part, need, pin))
    for field in part.fields:
        if field.role in ("part", "bus") and part.values.get(field.name):
            if field.role == "bus" and not part.kind.bus(part):
                _busless(design, part, field.name)
            else:
                _refer(design, part, field.name, field.role)
    _pinless(design, part)


def _busless(design: Design, part: Part, key: str) -> None:
    """A bus is named where the part hangs on none; nothing is said while its chip is not known."""
    if chip := part.get("chip", ""):
        message = f"a {chip} is connected to a pin, not to a bus"
        fixes = ("pin = … in place of it",) if part.values.get("pin") is None else (REMOVE,)
        design.document.found("unknown-key", (*part.path, key), message, fixes=fixes, of="key")


def _pinless(design: Design, part: Part) -> None:
    """A pin is given that the part's chip has no use for."""
    chip = part.get("chip", "")
    needed = {need.field for need in part.needs}
    for field in part.fields if chip else ():
        if field.role != "pin" or field.name in needed or part.values.get(field.name) is None:
            continue
        if field.name == "pin" and part.kind.bus(part):
            message = f"a {chip} is connected to a bus, not to a pin"
            fixes = (REMOVE,) if part.values.get("bus") else ("bus = …",)
        else:
            message, fixes = f"a {chip} does not use {field.name}", (REMOVE,)
        design.document.found("unknown-key", (*part.path, field.name), message, fixes=fixes, of="key")
    if chip and part.values.get("address") is not None and not part.kind.addresses(part):
        message = f"a {chip} has no address where it is connected"
        design.document.found("unknown-key", (*part.path, "address"), message, fixes=(REMOVE,), of="key")


def _refer(design: Design, part: Part, key: str, role: str) -> None:
    for index, name in enumerate(part.values[key]):
        other = design.parts.get(name)
        path = (*part.path, key, index) if isinstance(_raw(design, part, key), list) else (*part.path, key)
        if role == "bus" and (other is None or not other.has_role(part.kind.bus(part))):
            _no_bus(design, part, name, path)
        elif other is None:
            what = f"{key} names {name}, and no part is called that"
            options = [name for name in design.parts if name != part.name]
            have = f"there are: {', '.join(options)}" if options else ""
            bare = name.partition(".")[2]
            have = f'the part\'s name alone: "{bare}"' if bare in design.parts else have
            design.document.found("unknown-reference", path, what, fixes=nearest(name, options) or (have,))
        else:
            part.linked[key if role == "bus" else f"{key}.{name}"] = other
            if key == "excludes" and other is not part:  # what excludes is excluded
                other.linked[f"{key}.{part.name}"] = part


def _no_bus(design: Design, part: Part, name: str, path: Keys) -> None:
    wanted = part.kind.bus(part)
    other = design.parts.get(name)
    known = kind(wanted)
    words = (known.called if known else "") or wanted
    what = f"{path[2]} names {name}, " + (
        f"which is [{other.id}] and no {words}" if other else f"and no {words} is called that"
    )
    options = [name for name, p in design.parts.items() if p.has_role(wanted)]
    *many, last = (_least(known) if known else []) or [""]
    wants = f"{', '.join(many)} and {last}" if many else last
    have = (
        f"there are: {', '.join(options)}"
        if options
        else f"add [{wanted}.{_free_name(design, name)}]" + (f" with {wants}" if wants else "")
    )
    if other and other.has_role(_otherwise(part)):
        given = part.values.get("select") is not None
        have = (
            "without select it is on the I2C bus"
            if given
            else f"select = …, the pin that selects it on {name}"
        )
    design.document.found("bus-missing", path, what, fixes=nearest(name, options) or (have,))


def _free_name(design: Design, name: str) -> str:
    """The name where no part has it, else the first that is free."""
    numbered = (f"{name}_{n}" for n in count(2))
    return next(free for free in chain((name, "main"), numbered) if free not in design.parts)


def _otherwise(part: Part) -> str:
    """The kind of bus that it would be on, were its select line given or left out; "" where that changes nothing."""
    if "select" not in part.shape.by_name:
        return ""
    select = 0 if part.values.get("select") is None else None
    bus = part.kind.bus(Part(part.kind, part.name, {**part.values, "select": select}))
    return "" if bus == part.kind.bus(part) else bus


def _least(kind: Kind) -> list[str]:
    """The keys without which a table of this kind cannot stand."""
    return [field.name for field in kind.fields if field.required] + list(kind.requires(Part(kind, "", {})))


def _raw(design: Design, part: Part, key: str) -> object:
    return table(table(design.document.data, part.kind.name), part.name).get(key)


def _pin(design: Design, part: Part, key: str, given: int | str) -> Pin | None:
    """The pin that `given` names on the board, or None with a finding."""
    carrier = cast(Board, design.board)
    if isinstance(given, str) and "." in given:
        return _offered(design, part, key, given)
    gpio = given if isinstance(given, int) else carrier.gpio(given)
    pin = carrier.chip.pins.get(gpio) if gpio is not None else None
    if pin is not None and (gpio in carrier.label_of or gpio in carrier.fitted_on):
        return pin
    labels = [place.label for row in carrier.headers.values() for place in row if place.gpio is not None]
    if pin is None:
        message = f"{_shown(given)} is no pin of this board"
        why = f"{carrier.title}: {_supply_word(carrier, given)}"
    else:
        message = f"{pin.name} is not brought out on this board"
        why = f"{carrier.title}: no header pin carries it."
    near = nearest(given, labels) if isinstance(given, str) else ()
    free = ", ".join(str(p.gpio) if not p.analog_only else p.name for p in carrier.free)
    design.document.found(
        "pin-absent", (*part.path, key), message, why=why, fixes=(*near, f"pins of {carrier.id}: {free}")
    )
    return None


def _offered(design: Design, part: Part, key: str, given: str) -> Pin | None:
    """A pin that another part offers: "io.3"."""
    name, _, word = given.partition(".")
    owner = design.parts.get(name)
    offers: Mapping[str, Pin] = owner.kind.offers(owner) if owner else {}
    if word in offers:
        return offers[word]
    if owner and offers:
        message = f"{name} has no pin {word}"
        fixes = (f"it has {name}.{next(iter(offers))} to {name}.{list(offers)[-1]}",)
    else:
        message = f'no part that offers pins is called {name}, so there is no "{given}"'
        having = [p.name for p in design.parts.values() if p.kind.offers(p)]
        fixes = nearest(name, having) or (f"parts that offer pins: {', '.join(having)}" if having else "",)
    design.document.found("pin-absent", (*part.path, key), message, fixes=fixes)
    return None


def _supply_word(carrier: Board, given: int | str) -> str:
    supply = [p.label for row in carrier.headers.values() for p in row if p.gpio is None]
    if isinstance(given, str) and given.upper() in supply:
        return f"{given} is a supply or control pin."
    return (
        f"the {carrier.chip.title} has no such GPIO."
        if isinstance(given, int)
        else "no such label on its headers."
    )


def _shown(given: int | str) -> str:
    return f"GPIO{given}" if isinstance(given, int) else f'"{given}"'
