"""What there is to say about a place in a device file: a kind, a key, a pin, a property; and where a name is at home."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from typing import cast

from zapato.boards.board import Pin
from zapato.checks.compatibility import incompatibilities
from zapato.design import Design, PinUse
from zapato.design.links import SHAPE as LINK
from zapato.editing.change import line_of
from zapato.editing.cursor import Cursor
from zapato.editing.offers import SCRIPT_TABLES, TABLES, about, field_at, part_at, token
from zapato.errors import ZapatoError
from zapato.findings import Place
from zapato.lang.expressions import NotThere
from zapato.lang.source import Keys, table
from zapato.lang.units import QuantityError, quantity, shown_time
from zapato.parts import kind
from zapato.parts.kind import Part
from zapato.record import record
from zapato.wiring.pins import pin_rows


def note(design: Design, at: Cursor, text: str, line: int, column: int) -> str:
    """What is to be said about the place, as Markdown; empty where nothing is."""
    if at.where == "header":
        return _table(at, design)
    field = field_at(at)
    if at.where == "key" or (at.where == "value" and field is None):
        return f"**{field.name}**: {field.help}" if field else ""
    part = part_at(design, at)
    if part and field and field.role == "pin" and (pin := part.pins.get(field.name)):
        return _pin(design, part, field.name, pin)
    if at.where == "text" and (said := _named(design, token(text, line, column))):
        return said
    if at.table[:1] == ("device",) and at.key == "board" and design.board:
        board = design.board
        return f"**{board.id}**: {board.title}; {board.chip.title}, {len(board.usable)} pins for parts, {board.flash >> 20} MB flash"
    if at.key == "chip" and part:
        return _chip(part)
    return f"**{field.name}**: {field.help}" if field else ""


def _table(at: Cursor, design: Design) -> str:
    if not at.table:
        return ""
    if known := TABLES.get(at.table[0]) or SCRIPT_TABLES.get(at.table[0]):
        return f"**{at.table[0]}**: {known[1]}"
    kind_of_table = kind(at.table[0])
    if kind_of_table is None:
        return ""
    part = part_at(design, at)
    gives = (
        "".join(
            f"\n- `{part.name}.{name}` {about(known)} {known.help}" for name, known in part.properties.items()
        )
        if part
        else ""
    )
    wiring = f"\n\n{kind_of_table.wiring}" if kind_of_table.wiring else ""
    return f"**{kind_of_table.name}**: {kind_of_table.help}{wiring}" + (f"\n{gives}" if gives else "")


def _pin(design: Design, part: Part, key: str, pin: Pin) -> str:
    """What the pin can do, who uses it, and what is to be minded here."""
    row = next((pin_row for pin_row in pin_rows(design) if pin_row.gpio == pin.gpio), None)
    lines = [f"**{design.called(pin)}**" + (f": {row.can}" if row and row.can else "")]
    if pin.boot:
        lines.append(f"read at reset, must be {pin.boot.level}: {pin.boot.why}")
    if row and row.note:
        lines.append(row.note)
    users = [f"{use.part.id} {use.need.field}" for use in design.users.get(pin.gpio, ())]
    lines.append(f"used by {', '.join(users)}")
    need = next((need for need in part.needs if need.field == key), None)
    if need:
        for _, problem in incompatibilities(PinUse(part, need, pin), design):
            lines.append(
                f"{problem.severity}: {problem.message}" + (f" ({problem.source})" if problem.source else "")
            )
    return "  \n".join(lines)


def _chip(part: Part) -> str:
    from zapato.parts.sensors import chip

    with suppress(ZapatoError, KeyError):
        chip_of_part = chip(str(part.values.get("chip")))
        gives = "".join(f"\n- `{name}` {about(prop)}" for name, prop in chip_of_part.properties.items())
        source = f"\n\n{chip_of_part.source}" if chip_of_part.source else ""
        return f"**{chip_of_part.name}**: {chip_of_part.help}{gives}{source}"
    return ""


def _named(design: Design, name: str) -> str:
    """A name in an expression: a part, its property, event or action."""
    named_part = _part_of(design, name)
    if named_part is None:
        return ""
    part, rest = named_part
    if not rest:
        return f"**{part.id}**: {part.label}; {part.kind.help}"
    if known := part.properties.get(rest):
        return f"**{name}**: {about(known)}" + (f"  \n{known.help}" if known.help else "")
    if action := part.kind.actions_of(part).get(rest):
        return f"**{name}**: {action.help}"
    return f"**{name}**: {part.kind.events[rest]}" if rest in part.kind.events else ""


def property_at(design: Design, at: Cursor, text: str, line: int, column: int) -> str:
    """The property that stands at a place, as "device.part.property"; "" where none does."""
    name = token(text, line, column) if at.where == "text" else ""
    part = _part_of(design, name) if name else None
    if part is None or part[1] not in part[0].properties:
        return ""
    return name if name.count(".") > 1 else f"{design.name}.{name}"


def _part_of(design: Design, name: str) -> tuple[Part, str] | None:
    """The part of a dotted name, here or on another device, and what follows it."""
    names = name.split(".")
    if names[0] in design.parts:
        return design.parts[names[0]], ".".join(names[1:])
    if len(names) > 1 and design.others and design.others.has(names[0]):
        with suppress(NotThere, ZapatoError):
            return design.others.part(names[0], names[1]).part, ".".join(names[2:])
    return None


def home(design: Design, text: str, line: int, column: int) -> Place | None:
    """Where the name at a place is at home: the table of a part, here or in another device's file."""
    names = token(text, line, column).split(".")
    if names[0] in design.parts:
        return design.document.place(design.parts[names[0]].path, "key")
    if len(names) > 1 and design.others and design.others.has(names[0]):
        with suppress(NotThere, ZapatoError):
            part = design.others.part(names[0], names[1])
            return part.design.document.place(part.part.path, "key")
    return None


@record(frozen=True)
class Section:
    """A table of a file: its title, and its first and last line."""

    title: str
    first: int
    last: int


def sections(text: str) -> list[Section]:
    """The tables of a text, in its order; broken ones, too."""
    lines = text.split("\n")
    heads = [n for n, line in enumerate(lines, 1) if line.startswith("[") and "]" in line]
    sections: list[Section] = []
    for at, first in enumerate(heads):
        last = heads[at + 1] - 1 if at + 1 < len(heads) else len(lines)
        while last > first and (not lines[last - 1].strip() or lines[last - 1].startswith("#")):
            last -= 1
        title = lines[first - 1].split("]")[0].strip("[ ")
        sections.append(Section(_link_title(title, lines[first:last]), first, last))
    return sections


def _link_title(title: str, rows: list[str]) -> str:
    """A link is told by what starts it."""
    if title != "link":
        return title
    starts = (
        row.split("=", 1)[1].strip() for row in rows if row.split("=")[0].strip() in ("when", "at", "every")
    )
    return f"link {next(starts, '')}".strip()


def hints(design: Design) -> Iterator[tuple[int, int, str]]:
    """Line, column and words that may stand behind a value: the chip's number of a label, an address in hex, a time in whole units."""
    source = design.document.source
    for path, words in (*_numbers(design), *_addresses(design), *_times(design)):
        place = design.document.place(path)
        if place.file != source.name:
            continue
        written = line_of(source.text, place.line)[place.column - 1 : place.column - 1 + place.width]
        if words and words.replace(" ", "") not in written.replace(" ", ""):
            yield place.line, place.column + place.width, words


def _numbers(design: Design) -> Iterator[tuple[Keys, str]]:
    for use in design.uses:
        if isinstance(use.part.values.get(use.need.field), str) and use.pin.gpio >= 0 and design.board:
            yield use.path, f"GPIO{use.pin.gpio}"


def _addresses(design: Design) -> Iterator[tuple[Keys, str]]:
    for part in design.parts.values():
        if part.kind.addresses(part) and isinstance(at := part.values.get("address"), int):
            yield (*part.path, "address"), f"0x{at:02x}"


def _times(design: Design) -> Iterator[tuple[Keys, str]]:
    """Times that are longer than the unit they are written in: "5400s" is 1 h 30 min."""
    data = design.document.data
    for part in design.parts.values():
        given = table(table(data, part.kind.name), part.name)
        for field in part.fields:
            if field.dimension == "time" and isinstance(given.get(field.name), str):
                yield (*part.path, field.name), _long(part.values.get(field.name))
    rows: object = data.get("link")
    for number, row in enumerate(cast(list[object], rows) if isinstance(rows, list) else ()):
        for key, value in cast(dict[str, object], row).items() if isinstance(row, dict) else ():
            known = LINK.by_name.get(key)
            if known and known.dimension == "time" and isinstance(value, str):
                with suppress(QuantityError):
                    yield ("link", number, key), _long(quantity(value, "time"))


def _long(ms: object) -> str:
    return shown_time(ms) if isinstance(ms, (int, float)) and ms >= 60_000 else ""
