"""Putting chosen pins into the device file, comments and layout kept."""

from __future__ import annotations

import codecs
from typing import Any, cast

import tomlkit

from zapato.fitting.solve import Fit
from zapato.lang.files import write


def _as_before(raw: bytes, text: str) -> bytes:
    """The new text with the byte-order mark and the line ends that the file had."""
    data = text.encode()
    if b"\r\n" in raw:
        data = data.replace(b"\n", b"\r\n")
    return codecs.BOM_UTF8 + data if raw.startswith(codecs.BOM_UTF8) else data


def write_pins(result: Fit) -> int:
    """Replace each "auto" of the device file by its pin; gives how many. Raises Unwritable.

    An "auto" that came with a piece is answered in the device file, which wins over the piece.
    """
    source = result.design.document.source
    document = cast(dict[str, Any], tomlkit.parse(source.text))
    for each in result.placements:
        kind = result.design.parts[each.part].kind.name
        if kind not in document:
            document[kind] = tomlkit.table(is_super_table=True)
        parts = document[kind]
        if each.part not in parts:
            parts[each.part] = tomlkit.table()
        table = parts[each.part]
        if each.field in table:
            item = tomlkit.item(each.written)
            item.trivia.comment_ws, item.trivia.comment = (
                table.item(each.field).trivia.comment_ws,
                table.item(each.field).trivia.comment,
            )
            table[each.field] = item
        else:
            table[each.field] = each.written
    if result.placements:
        path = source.path.resolve()  # through a link, to the file it leads to
        text = tomlkit.dumps(document)  # type: ignore[arg-type]
        write(path, _as_before(path.read_bytes(), text), path.stat().st_mode & 0o777)
    return len(result.placements)
