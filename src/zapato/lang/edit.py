"""Changing a file so that comments and layout stay."""

from __future__ import annotations

import codecs
from collections.abc import Mapping
from typing import Any, cast

import tomli
import tomlkit

from zapato.errors import Unwritable
from zapato.lang.files import write
from zapato.lang.source import Source
from zapato.regex import regex

_HEADER = regex(r"\s*\[")


def set_keys(source: Source, tables: Mapping[tuple[str, str], Mapping[str, Any]]) -> None:
    """Give keys of [kind.name] tables other values, or add them; a table that is not there comes at the end. Raises Unwritable."""
    document = cast(dict[str, Any], tomlkit.parse(source.text))
    for (kind, name), values in tables.items():
        if kind not in document:
            document[kind] = tomlkit.table(is_super_table=True)
        if name not in document[kind]:
            document[kind][name] = tomlkit.table()
        for key, value in values.items():
            _set(document[kind][name], key, value)
    save(source, tomlkit.dumps(document))  # type: ignore[arg-type]


def _set(table: Any, key: str, value: Any) -> None:
    if key not in table:
        table[key] = value
        return
    item = cast(Any, tomlkit.item(value))
    before = table.item(key).trivia
    item.trivia.comment_ws, item.trivia.comment = before.comment_ws, before.comment
    table[key] = item


def add_table(source: Source, text: str, after: str) -> None:
    """Put the text of a new table behind the table whose header is `after`, or at the end where it cannot stand there.

    Raises Unwritable, also where the file would not be read as before with the table added.
    """
    lines = source.text.splitlines(keepends=True)
    spots = [at for at in (_behind(lines, after), len(lines)) if at is not None]
    wanted = _with(source.data, tomli.loads(text))
    for at in spots:
        head = "".join(lines[:at])
        gap = "" if not head or head.endswith("\n\n") else "\n" if head.endswith("\n") else "\n\n"
        rest = "".join(lines[at:])
        made = f"{head}{gap}{text.rstrip()}\n" + (f"\n{rest.lstrip(chr(10))}" if rest else "")
        try:
            fits = tomli.loads(made) == wanted
        except tomli.TOMLDecodeError:
            fits = False
        if fits:
            save(source, made)
            return
    raise Unwritable(
        f"{source.name} has a form into which no table can be put", f"add by hand: {text.strip()}"
    )


def _behind(lines: list[str], header: str) -> int | None:
    """The line behind a table, before the blank lines and comments that belong to the next."""
    start = next((n for n, line in enumerate(lines) if line.split("#")[0].strip() == header), None)
    if start is None:
        return None
    end = next((n for n in range(start + 1, len(lines)) if _HEADER.match(lines[n])), len(lines))
    while end > start + 1 and (not lines[end - 1].strip() or lines[end - 1].lstrip().startswith("#")):
        end -= 1
    return end


def _with(data: Mapping[str, Any], more: Mapping[str, Any]) -> dict[str, Any]:
    """The values with a table of two names added."""
    merged = dict(data)
    for kind, tables in more.items():
        merged[kind] = {**cast(dict[str, Any], merged.get(kind, {})), **tables}
    return merged


def save(source: Source, text: str) -> None:
    """The new text in the file's place, with the byte-order mark, line ends and rights that it had. Raises Unwritable."""
    path = source.path.resolve()  # through a link, to the file it leads to
    raw = path.read_bytes()
    data = text.replace("\r\n", "\n").encode()
    if b"\r\n" in raw:
        data = data.replace(b"\n", b"\r\n")
    write(
        path, codecs.BOM_UTF8 + data if raw.startswith(codecs.BOM_UTF8) else data, path.stat().st_mode & 0o777
    )
