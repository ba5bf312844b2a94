"""Ours in the protocol's terms: findings, edits and places, with columns in the client's units."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from difflib import SequenceMatcher
from pathlib import Path

from lsprotocol import types
from pygls import uris
from pygls.workspace import PositionCodec

from zapato.editing.change import Edit, line_of
from zapato.editing.offers import Completion
from zapato.findings import Finding, Place

SEVERITIES = {
    "error": types.DiagnosticSeverity.Error,
    "warning": types.DiagnosticSeverity.Warning,
    "note": types.DiagnosticSeverity.Information,
}
KINDS = {
    "table": types.CompletionItemKind.Module,
    "key": types.CompletionItemKind.Field,
    "value": types.CompletionItemKind.Value,
    "pin": types.CompletionItemKind.Constant,
    "part": types.CompletionItemKind.Variable,
    "property": types.CompletionItemKind.Property,
    "action": types.CompletionItemKind.Method,
    "event": types.CompletionItemKind.Event,
    "word": types.CompletionItemKind.Keyword,
}


def path_of_uri(uri: str) -> Path:
    """The file that a client names."""
    return Path(uris.to_fs_path(uri) or uri)


def uri_of(path: Path) -> str:
    """How a client calls a file."""
    return uris.from_fs_path(str(path)) or str(path)


class Units:
    """Places in one text, between our lines and characters from 1 and the client's units from 0."""

    def __init__(self, text: str, codec: PositionCodec) -> None:
        self._text, self._codec = text, codec
        self._lines = text.split("\n")

    def place(self, position: types.Position) -> tuple[int, int]:
        """Line and column of a client's position; one beyond the end of its line is at its end."""
        if position.line >= len(self._lines):
            return len(self._lines), len(self._lines[-1]) + 1
        ours = self._codec.position_from_client_units(self._lines, position)
        return ours.line + 1, ours.character + 1

    def position(self, line: int, column: int) -> types.Position:
        """The client's position."""
        row = min(max(line, 1), len(self._lines))
        character = min(max(column, 1) - 1, len(self._lines[row - 1]))
        return self._codec.position_to_client_units(self._lines, types.Position(row - 1, character))

    def range(self, line: int, column: int, width: int) -> types.Range:
        """A stretch of a line."""
        return types.Range(self.position(line, column), self.position(line, column + width))

    def of(self, place: Place) -> types.Range:
        """A finding's place."""
        return self.range(place.line, place.column, place.width)

    def edit(self, edit: Edit) -> types.TextEdit:
        """One of our edits."""
        if edit.line > len(self._lines):
            end = self.position(len(self._lines), len(self._lines[-1]) + 1)
            return types.TextEdit(types.Range(end, end), f"\n{edit.text}")
        return types.TextEdit(self.range(edit.line, edit.column, edit.width), edit.text)

    def lines(self, first: int, last: int) -> types.Range:
        """Whole lines."""
        return types.Range(self.position(first, 1), self.position(last, len(line_of(self._text, last)) + 1))


def diagnostic(finding: Finding, units: Units) -> types.Diagnostic:
    """A finding, with its reason and its ways out."""
    ways = "".join(f"\nway out: {fix}" for fix in finding.fixes)
    return types.Diagnostic(
        range=units.of(finding.place),
        message=f"{finding.message}" + (f"\n{finding.why}" if finding.why else "") + ways,
        severity=SEVERITIES[finding.severity],
        code=finding.code,
        source="zapato",
    )


def item(offer: Completion, rank: int, where: types.Range) -> types.CompletionItem:
    """One thing that can be written."""
    return types.CompletionItem(
        label=offer.label,
        kind=KINDS[offer.sort],
        detail=offer.detail or None,
        documentation=offer.help or None,
        sort_text=f"{rank:04}",
        filter_text=offer.insert,
        text_edit=types.TextEdit(where, offer.insert),
    )


def changes(before: str, after: str, codec: PositionCodec) -> list[types.TextEdit]:
    """What turns one text into another of as many lines: of each line the stretch that differs."""
    units = Units(before, codec)
    rows = zip(before.split("\n"), after.split("\n"), strict=True)
    return [units.edit(_stretch(n, old, new)) for n, (old, new) in enumerate(rows, 1) if old != new]


def line_changes(before: str, after: str, codec: PositionCodec) -> list[types.TextEdit]:
    """What turns one text into another, whole lines at a time, so that the cursor stays where nothing changes."""
    units, old, new = Units(before, codec), before.split("\n"), after.split("\n")
    edits: list[types.TextEdit] = []
    for what, first, last, begin, end in SequenceMatcher(None, old, new, autojunk=False).get_opcodes():
        if what == "equal":
            continue
        where = types.Range(types.Position(first, 0), types.Position(last, 0))
        text = "".join(f"{line}\n" for line in new[begin:end])
        if last == len(old):  # the last line has no end of its own: what changes begins behind the one before
            start = units.position(first, len(old[first - 1]) + 1) if first else types.Position(0, 0)
            where = types.Range(start, units.position(len(old), len(old[-1]) + 1))
            text = "".join(f"\n{line}" for line in new[begin:end])
            text = text if first else text.removeprefix("\n")
        edits.append(types.TextEdit(where, text))
    return edits


def _stretch(line: int, old: str, new: str) -> Edit:
    begin = _common(old, new)
    end = _common(old[begin:][::-1], new[begin:][::-1])
    return Edit(line, begin + 1, len(old) - begin - end, new[begin : len(new) - end])


def _common(one: Sequence[str], other: Sequence[str]) -> int:
    """How far two texts are the same."""
    return next(
        (n for n, (a, b) in enumerate(zip(one, other, strict=False)) if a != b), min(len(one), len(other))
    )


def text_edits(edits: Iterable[Edit], units: Units) -> list[types.TextEdit]:
    """Several of our edits."""
    return [units.edit(edit) for edit in edits]
