"""Tables in CSV files (RFC 4180) that belong to a part: a row each, its name in the first column or one called name."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping
from typing import Any, cast

from zapato.design.model import Design
from zapato.errors import Unreadable
from zapato.lang.source import Keys, Source

MOST = 500
"""Rows at the most."""


def with_table(design: Design, path: Keys, fields: Mapping[str, Any], into: str) -> dict[str, Any]:
    """The fields of a part with the rows of its `table` added to those that stand under `into`, which win."""
    named = fields.get("table")
    if not isinstance(named, str):
        return dict(fields)
    file = (design.site.root or design.document.source.path.absolute().parent) / named
    try:
        source = Source.read(file)
    except Unreadable as error:
        design.document.found("file-unreadable", (*path, "table"), str(error), fixes=(error.fix,))
        return dict(fields)
    rows = _rows(design, source, (*path, "table"))
    own = fields.get(into, {})
    return {**fields, into: {**rows, **cast(dict[str, Any], own)} if isinstance(own, dict) else own}


def _rows(design: Design, source: Source, place: Keys) -> dict[str, Any]:
    found: dict[str, Any] = {}
    reader = csv.DictReader(io.StringIO(source.text.lstrip("\ufeff")), skipinitialspace=True)
    first = (reader.fieldnames or [""])[0]
    key = "name" if "name" in (reader.fieldnames or ()) else first
    for number, row in enumerate(reader, 2):
        name = (row.get(key) or "").strip()
        if not name or name.startswith("#"):
            continue
        if None in row or name in found or len(found) >= MOST:
            wrong = (
                "has more cells than columns"
                if None in row
                else f"names {name} again"
                if name in found
                else "is one too many"
            )
            design.document.found("wrong-type", place, f"{source.name}, line {number} {wrong}")
            continue
        cells = {column.strip(): (value or "").strip() for column, value in row.items() if column != key}
        found[name] = {column: _value(text) for column, text in cells.items() if text}
    return found


def _value(text: str) -> object:
    """A cell as TOML would have it: a number, a truth, or a text."""
    if text.lower() in ("true", "yes", "false", "no"):
        return text.lower() in ("true", "yes")
    for read in (lambda: int(text, 0), lambda: float(text)):
        try:
            return read()
        except ValueError:
            continue
    return text
