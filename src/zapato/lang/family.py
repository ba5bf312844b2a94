"""Families: one device file and a table, a device for each row of it.

`with = "tables/lockers.csv"` before the first table of a device file, or a list of tables, makes a family:
`{ with = "column" }` in the file and in its pieces stands for what each row says. A member is named like a file in a
folder: `devices/lockers.toml/locker-07`.
"""

from __future__ import annotations

import codecs
import io
import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import field, replace
from functools import cached_property, lru_cache
from pathlib import Path
from typing import Any, cast

from zapato.errors import Unreadable
from zapato.findings import Place
from zapato.lang.source import Keys, Source, here, inside, read_bytes, shown
from zapato.record import record
from zapato.regex import regex

MOST = 10_000
"""Rows of a table at the most."""
MOST_HERE = 100
"""Rows in the device file itself at the most: it is read anew for each of them."""
_BEGIN = regex(rb"""\n[ \t]*(?:with|"with"|'with')[ \t]*=[ \t]*["'\[]""")
_TABLE = regex(rb"\n[ \t]*\[")


class Cell(str):
    """A cell of a CSV file: what it is, the field that takes it says."""

    __slots__ = ()


@record
class FamilyRow:
    """One row of a family's table.

    Attributes:
        name: the member's, as paths name it.
        values: its cells by column; empty ones are not there.
        source: where the table stands.
        at: the way to the row there.
    """

    name: str
    values: dict[str, Any]
    source: Source
    at: Keys

    @property
    def place(self) -> Place:
        """Where the row begins."""
        return self.source.place(self.at, "key")


@record
class Family:
    """The rows of a family, and what is wrong with its table: at the member's own `with`."""

    rows: list[FamilyRow] = field(default_factory=list[FamilyRow])
    problem: str = ""

    @cached_property
    def by_name(self) -> Mapping[str, FamilyRow]:
        """The rows by the members' names."""
        return {row.name: row for row in self.rows}


class CsvSource(Source):
    """A CSV file whose places are lines and cells."""

    @cached_property
    def lines(self) -> list[str]:
        """Its lines."""
        return self.text.split("\n")

    def place(self, path: Keys, of: str = "value", offset: int = 0) -> Place:
        line = int(path[0]) if path else 1
        row = self.lines[line - 1] if line <= len(self.lines) else ""
        column, width = 1, max(1, len(row.rstrip()))
        if len(path) > 1:
            head = self.lines[0]
            columns = _columns(head)
            if str(path[1]) in columns:
                column, width = _cell(row, columns.index(str(path[1])), delimiter(head))
        return Place(self.name, line, column + offset, max(1, width - offset))


def is_family(text: bytes) -> bool:
    """True where a device file begins as that of a family does."""
    if b"with" not in text:
        return False
    text = b"\n" + text.removeprefix(codecs.BOM_UTF8)
    begin, first = _BEGIN.search(text), _TABLE.search(text)
    return begin is not None and (first is None or begin.start() < first.start())


def members(path: Path, root: Path | None) -> list[Path]:
    """The paths of a family's members; the file itself where it is none, or its table cannot be read."""
    return [path / row.name for row in rows(path, root)] or [path]


def rows(path: Path, root: Path | None) -> list[FamilyRow]:
    """The rows of a family's file; none where it is none, or its table cannot be read."""
    try:
        if not is_family(read_bytes(path)):
            return []
        return family(Source.read(path), root or path.absolute().parent).rows
    except Unreadable:
        return []


def row_of(source: Source, root: Path) -> FamilyRow | None:
    """The row that this source was read for. Raises Unreadable where the table has none of that name."""
    if not source.row:
        return None
    members_found = family(source, root)
    row = members_found.by_name.get(source.row)
    if row is None:
        from zapato.lang.fields import nearest

        near = nearest(source.row, list(members_found.by_name))
        raise Unreadable(f"{source.name} has no row {source.row}", near[0] if near else "")
    return row


def family(source: Source, root: Path) -> Family:
    """The rows of a family's file, named by what they give the device's name."""
    given: object = source.data.get("with")
    about = source.data.get("device")
    name_given: object = cast(dict[str, Any], about).get("name") if isinstance(about, dict) else None
    column = str(cast(dict[str, Any], name_given).get("with", "")) if isinstance(name_given, dict) else ""
    if isinstance(given, list):
        listed = _listed(source, cast(list[object], given), ("with",))
        if len(listed) > MOST_HERE:
            return Family(problem=f'{len(listed)} rows want a table of their own: with = "tables/….csv"')
        return _named(Family(listed), column)
    if not isinstance(given, str):
        return Family()
    file = root / given
    try:
        stamp = inside(file, root).stat()
        return _read(str(file), stamp.st_mtime_ns, stamp.st_size, column, here())
    except OSError:
        return Family(problem=f"cannot read {shown(file)}")
    except Unreadable as error:
        return Family(problem=str(error))


@lru_cache(maxsize=8)
def _read(file: str, changed: int, size: int, column: str, seen_from: Path) -> Family:
    """A table is read once while it stays as it is, and is seen from the same folder."""
    path = Path(file)
    try:
        source = Source.read(path)
    except Unreadable as error:
        return Family(problem=str(error))
    if source.problem:
        return Family(problem=f"{source.name} is {source.problem}")
    if path.suffix == ".toml":
        given: object = source.data.get("row", [])
        if source.findings or not isinstance(given, list):
            return Family(problem=f"{source.name} is no table of rows: [[row]]")
        return _named(Family(_listed(source, cast(list[object], given), ("row",))), column)
    return _named(_from_csv(CsvSource(path, source.text)), column)


def _listed(source: Source, given: list[object], at: Keys) -> list[FamilyRow]:
    return [
        FamilyRow("", dict(cast(dict[str, Any], row)), source, (*at, number))
        for number, row in enumerate(given)
        if isinstance(row, dict)
    ]


def broken(cells: Iterable[str]) -> str:
    """What is wrong with a row in which a cell goes on over the end of its line: the rows after it would be lost in it."""
    return "a quote is not closed" if any("\n" in cell or "\r" in cell for cell in cells) else ""


def _from_csv(source: CsvSource) -> Family:
    import csv

    reader = csv.reader(io.StringIO(source.text), delimiter=delimiter(source.text), skipinitialspace=True)
    family = Family()
    try:
        columns = [cell.strip() for cell in next(reader, list[str]())]
        for cells in reader:
            if not any(cell.strip() for cell in cells) or cells[0].startswith("#"):
                continue
            if wrong := broken(cells) or ("more cells than columns" if len(cells) > len(columns) else ""):
                family.problem = f"{source.name}, line {reader.line_num}: {wrong}"
                break
            texts = ((column, cell.strip()) for column, cell in zip(columns, cells, strict=False))
            values = {column: Cell(text) for column, text in texts if column and text}
            family.rows.append(FamilyRow("", values, source, (reader.line_num,)))
            if len(family.rows) > MOST:
                family.problem = f"{source.name}: {MOST:,} rows are the most"
                break
    except csv.Error as error:
        family.problem = f"{source.name}, line {reader.line_num}: {error}"
    if family.problem:
        family.rows.clear()
    return family


def _named(family: Family, column: str) -> Family:
    """Each row has the name that its device gets, where that can be one of a file; else its number."""
    named: dict[str, FamilyRow] = {}
    for number, row in enumerate(family.rows, 1):
        name = str(row.values.get(column, ""))
        good = re.fullmatch(r"[A-Za-z0-9][\w.-]*", name) and name not in named
        name = name if good else f"row-{number}"
        named[name] = replace(row, name=name)
    if not named and not family.problem:
        family.problem = "the table of this family has no rows"
    return Family(list(named.values()), family.problem)


def delimiter(text: str) -> str:
    """What stands between cells: a comma (RFC 4180), or what spreadsheets of other countries put there."""
    head = text.partition("\n")[0]
    return max(",;\t", key=head.count)


def _columns(head: str) -> list[str]:
    import csv

    reader = csv.reader([head], delimiter=delimiter(head), skipinitialspace=True)
    return [cell.strip() for cell in next(reader, list[str]())]


def _cell(row: str, wanted: int, delimiter: str) -> tuple[int, int]:
    """Column and width of a cell in its line."""
    spans = list(_spans(row, delimiter))
    start, end = spans[wanted] if wanted < len(spans) else (0, len(row))
    text = row[start:end]
    lead = len(text) - len(text.lstrip())
    return start + lead + 1, max(1, len(text.strip()))


def _spans(row: str, delimiter: str) -> Iterator[tuple[int, int]]:
    begin, quoted = 0, False
    for at, letter in enumerate(row):
        if letter == '"':
            quoted = not quoted
        elif letter == delimiter and not quoted:
            yield begin, at
            begin = at + 1
    yield begin, len(row.rstrip("\r"))


def as_field(cell: Cell, schema: Mapping[str, Any]) -> object:
    """A cell as a field takes it: a number or a truth where that may stand there, else a text."""
    types = _types(schema)
    text = cell.lower()
    if "boolean" in types and text in ("true", "yes", "false", "no"):
        return text in ("true", "yes")
    for kind, read in (
        ("integer", lambda: int(cell, 0)),
        ("integer", lambda: int(cell)),
        ("number", lambda: float(cell)),
    ):
        if kind in types or (kind == "integer" and "number" in types):
            try:
                return read()
            except ValueError:
                continue
    return str(cell)


def _types(schema: Mapping[str, Any]) -> set[str]:
    """The JSON types that a schema takes."""
    own = schema.get("type", [])
    types = {own} if isinstance(own, str) else set(cast(list[str], own))
    for branch in (*schema.get("anyOf", ()), *schema.get("oneOf", ())):
        types |= _types(branch)
    return types
