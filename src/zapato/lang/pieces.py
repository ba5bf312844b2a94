"""Pieces: reusable parts of device files, merged in with `use`, their gaps filled with `with`.

A piece is a TOML file with parts and links. `{ with = "name" }` in it stands for a value that the
device file gives: `with = { name = 26 }`. The device file wins over a piece, a later piece over an
earlier one; every value remembers the file and the place it came from.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field
from pathlib import Path
from typing import Any, cast

from zapato.errors import Unreadable
from zapato.lang.document import Document
from zapato.lang.family import FamilyRow, family, row_of
from zapato.lang.fields import nearest
from zapato.lang.source import Keys, Source, inside
from zapato.record import record

DEEPEST = 8
"""Pieces that use pieces that use pieces: levels at the most."""
MOST = 200
"""Pieces that are merged into one device file at the most: ten that use ten each are a hundred."""

_OWN = ("zapato", "use", "with")
SHIPPED = Path(__file__).parent / "shipped"


def with_pieces(document: Document, root: Path) -> Document:
    """The document with its pieces merged in, and of a family what this member's row says. Raises Unreadable.

    A document without `use` that is no member of a family comes back as it is.
    """
    row = row_of(document.source, root)
    if row is None and isinstance(document.data.get("with"), (list, str)):
        return _no_member(document, root)
    if row is None and "use" not in document.data:
        return document
    given = _given(document) if row is None else row.values
    merged: dict[str, Any] = {}
    used: set[str] = set()
    gaps = _Gaps(given, used, root, row)
    for index, name in enumerate(_names(document) if "use" in document.data else ()):
        _use(document, _place(root, name), ("use", index), gaps, merged, ())
    own = {key: value for key, value in document.data.items() if key not in _OWN}
    if row is not None:
        document.reads.add(row.source.path)
        own = {key: gaps.filled(document, value, document.source, (key,)) for key, value in own.items()}
        document.row = row
    for key in given.keys() - used if row is None else ():
        document.found(
            "unknown-key",
            ("with", key),
            f"no piece asks for {key}",
            severity="warning",
            fixes=nearest(key, used),
            of="key",
        )
    _own_origins(document, own)
    _merge(merged, own)
    document.origins |= gaps.origins
    document.data = {**{key: document.data[key] for key in _OWN if key in document.data}, **merged}
    return document


def _given(document: Document) -> dict[str, Any]:
    """What a device file gives its pieces."""
    given = document.data.get("with", {})
    if isinstance(given, dict):
        return cast(dict[str, Any], given)
    document.found("wrong-type", ("with",), "with takes a table: with = { lamp_pin = 26 }")
    return {}


def _no_member(document: Document, root: Path) -> Document:
    """A family without a row to read it for: its table is the mistake, and nothing else is looked at."""
    members_found = family(document.source, root)
    document.found(
        "wrong-type", ("with",), members_found.problem or "this file is a family: name one of its members"
    )
    document.data = {}
    return document


def shipped() -> list[str]:
    """The names of the pieces that come with Zapato."""
    return sorted(path.stem for path in SHIPPED.glob("*.toml"))


def _place(folder: Path, name: str) -> Path:
    """Where a piece stands: a plain name is one that comes with Zapato, a file is in the site."""
    return SHIPPED / f"{name}.toml" if name in shipped() else folder / name


def _names(document: Document) -> list[str]:
    names = document.data["use"]
    paths = [names] if isinstance(names, str) else cast(list[Any], names)
    if not isinstance(names, (str, list)) or not all(isinstance(name, str) for name in paths):
        document.found("wrong-type", ("use",), 'use takes a list of files: use = ["pieces/two-relays.toml"]')
        return []
    return paths


def _use(
    document: Document,
    path: Path,
    at: Keys,
    gaps: _Gaps,
    merged: dict[str, Any],
    above: tuple[Path, ...],
) -> None:
    """Merge one piece, and first the pieces that it uses itself."""
    if path in above or len(above) >= DEEPEST:
        chain = " -> ".join(file.name for file in (*above, path))
        document.found("unknown-reference", at, f"the piece uses itself: {chain}")
        return
    gaps.uses += 1
    if gaps.uses > MOST:
        if gaps.uses == MOST + 1:
            document.found("unknown-reference", at, f"pieces use other pieces more than {MOST} times")
        return
    own = path.is_relative_to(SHIPPED)
    try:
        source = Source.read(path if own else inside(path, gaps.root))
    except Unreadable as error:
        document.found(
            "unknown-reference", at, str(error), fixes=(error.fix,) if error.fix else _near_files(path)
        )
        return
    data = source.data
    if not own:
        document.reads.add(path)
    document.findings.extend(source.findings)
    piece = Document(source, data)
    for name in _names(piece) if "use" in data else ():
        _use(document, _place(path.parent, name), at, gaps, merged, (*above, path))
    filled = {
        key: gaps.filled(document, value, source, (key,)) for key, value in data.items() if key not in _OWN
    }
    if "device" in filled:
        piece.found("unknown-key", ("device",), "a piece has no [device]: it is part of many", of="key")
        del filled["device"]
    document.findings.extend(piece.findings)
    _origins(document, source, filled, merged)
    _merge(merged, filled)


def _near_files(path: Path) -> tuple[str, ...]:
    try:
        near = nearest(path.name, [file.name for file in path.parent.glob("*.toml")])
    except OSError:
        near = ()
    return near or nearest(path.name, shipped()) or (f"with Zapato come: {', '.join(shipped())}",)


@record
class _Gaps:
    """What stands for { with = "name" }: what was given, what was asked for, and where a row said it."""

    given: Mapping[str, Any]
    used: set[str]
    root: Path
    row: FamilyRow | None
    uses: int = 0
    origins: dict[Keys, tuple[Source, Keys]] = field(default_factory=dict[Keys, tuple[Source, Keys]])

    def filled(self, document: Document, value: Any, source: Source, path: Keys) -> Any:
        """The value with each gap replaced by what is given."""
        if isinstance(value, dict):
            table = cast(dict[str, Any], value)
            if table.keys() == {"with"} and isinstance(table["with"], str):
                return self._one(document, table["with"], source, path)
            filled = {key: self.filled(document, value, source, (*path, key)) for key, value in table.items()}
            return {key: value for key, value in filled.items() if value is not None}
        if isinstance(value, list):
            items = enumerate(cast(list[Any], value))
            return [self.filled(document, item, source, (*path, number)) for number, item in items]
        return value

    def _one(self, document: Document, name: str, source: Source, path: Keys) -> Any:
        self.used.add(name)
        if name in self.given:
            if self.row and path[0] != "link":  # links of several files stand behind each other
                self.origins[path] = self.row.source, (*self.row.at, name)
            return self.given[name]
        place = Document(source, source.data)
        message, fix = (
            f"the piece asks for {name}, and the device file's with does not give it",
            f"with = {{ {name} = … }}",
        )
        if self.row:
            at = self.row.place
            message, fix = f"the row {self.row.name} has no {name} ({at.file}:{at.line})", f"a column {name}"
        place.found("missing-key", path, message, fixes=(fix,))
        document.findings.extend(place.findings)
        document.gaps.add(path)
        return None


def _origins(document: Document, source: Source, data: Mapping[str, Any], merged: Mapping[str, Any]) -> None:
    """Remember where each table of a piece came from."""
    for word, value in data.items():
        if isinstance(value, list):
            first = len(merged.get(word, []))
            for index in range(len(cast(list[Any], value))):
                document.origins[(word, first + index)] = (source, (word, index))
        elif isinstance(value, dict):
            for name, fields in cast(dict[str, Any], value).items():
                document.origins[(word, name)] = (source, (word, name))
                for key in cast(dict[str, Any], fields) if isinstance(fields, dict) else ():
                    document.origins[(word, name, key)] = (source, (word, name, key))


def _own_origins(document: Document, own: Mapping[str, Any]) -> None:
    """The device file's own values keep their own places, also inside a piece's table and behind its links."""
    links = sum(1 for path in document.origins if path[0] == "link" and len(path) == 2)
    for word, value in own.items():
        if word == "link" and isinstance(value, list):
            for index in range(len(cast(list[Any], value))):
                document.origins[("link", links + index)] = (document.source, ("link", index))
        elif isinstance(value, dict):
            for name, fields in cast(dict[str, Any], value).items():
                for key in cast(dict[str, Any], fields) if isinstance(fields, dict) else ():
                    document.origins[(word, name, key)] = (document.source, (word, name, key))


def _merge(into: dict[str, Any], data: Mapping[str, Any]) -> None:
    """Tables join key by key, lists of tables one behind the other; anything else is replaced."""
    for key, value in data.items():
        held = into.get(key)
        if isinstance(held, dict) and isinstance(value, dict):
            _merge(cast(dict[str, Any], held), cast(dict[str, Any], value))
        elif key == "link" and isinstance(held, list) and isinstance(value, list):
            into[key] = [*cast(list[Any], held), *cast(list[Any], value)]
        else:
            into[key] = value
