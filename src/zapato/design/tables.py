"""Tables in CSV files (RFC 4180) that belong to a part: a row each, its name in the first column or one called name."""

from __future__ import annotations

import io
from collections.abc import Mapping
from typing import Any, cast

from zapato.design.design import Design
from zapato.errors import Unreadable
from zapato.lang.family import CsvSource, broken, delimiter
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
        read = Source.read(file)
    except Unreadable as error:
        design.document.found("file-unreadable", (*path, "table"), str(error), fixes=(error.fix,))
        return dict(fields)
    source = CsvSource(read.path, read.text, read.problem)
    design.document.reads.add(file)
    rows = _rows(design, source, (*path, "table"), (*path, into))
    own = fields.get(into, {})
    return {**fields, into: {**rows, **cast(dict[str, Any], own)} if isinstance(own, dict) else own}


def _rows(design: Design, source: Source, place: Keys, into: Keys) -> dict[str, Any]:
    """The rows by name; a mistake in one of them is told at its line."""
    import csv

    filled: dict[str, Any] = {}

    def wrong(line: int, what: str) -> None:
        design.document.found("wrong-type", place, f"{source.name}, line {line}: {what}")

    text = source.text.lstrip("\ufeff")
    reader = csv.DictReader(io.StringIO(text), delimiter=delimiter(text), skipinitialspace=True)
    try:
        columns = [column.strip() for column in reader.fieldnames or ()]
        reader.fieldnames = columns
        key = "name" if "name" in columns else columns[0] if columns else ""
        for row in reader:
            name = (row.get(key) or "").strip()
            if name.startswith("#") or not any(
                text and text.strip() for column, text in row.items() if column
            ):
                continue
            if not_closed := broken(text for text in row.values() if isinstance(text, str)):
                wrong(reader.line_num, not_closed)
            elif not name:
                wrong(reader.line_num, "a row without a name")
            elif None in row:
                wrong(reader.line_num, "more cells than columns")
            elif name in filled:
                wrong(reader.line_num, f"{name} stands here a second time")
            elif len(filled) >= MOST:
                wrong(reader.line_num, f"{MOST} rows are the most")
                break
            else:
                cells = {column: (row[column] or "").strip() for column in columns if column != key}
                filled[name] = {column: _value(text) for column, text in cells.items() if text}
                design.document.origins[(*into, name)] = (source, (reader.line_num,))
    except csv.Error as error:
        wrong(reader.line_num, str(error))
    if not filled:
        wrong(max(1, reader.line_num), "no row with a name and values")
    return filled


def _value(text: str) -> object:
    """A cell as TOML would have it: a number, a truth, or a text; leading zeros mean nothing."""
    if text.lower() in ("true", "yes", "false", "no"):
        return text.lower() in ("true", "yes")
    for read in (lambda: int(text, 0), lambda: int(text), lambda: float(text)):
        try:
            return read()
        except ValueError:
            continue
    return text
