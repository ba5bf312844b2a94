"""A document: the values of a file (and what is merged into it), and the reader of its tables."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import field, replace
from pathlib import Path
from typing import Any, cast

from zapato.findings import Finding, Place, Severity
from zapato.lang.family import Cell, FamilyRow, as_field
from zapato.lang.fields import Field, Shape, Wrong, described, nearest
from zapato.lang.source import Keys, Source
from zapato.record import record
from zapato.regex import regex

REMOVE = "remove this line"
"""The way out where a key has no effect."""

_PLACEHOLDER = regex(
    r"\s*(?:change[ _-]?me!?|replace[ _-]?me|to[ _-]?do|fix[ _-]?me|xxx+|your[ _-].*|<[^<>]+>|\.\.\.|example[ _-]?password)\s*",
    re.IGNORECASE,
)


_EXAMPLES: Mapping[str, tuple[str, ...]] = {
    "pull": (
        'pull = "up" where the switch is between the pin and ground',
        'pull = "down" where it is between the pin and 3.3 V',
        'pull = "none" where a resistor is fitted',
    ),
    "bus": ('bus = "main", and a table for it: [i2c.main] with sda and scl',),
}
"""What to write for keys that newcomers meet first as a mistake."""


_ABOVE = "it stands at the top of the file, above [device]: what follows a table's name belongs to that table"


@record
class Document:
    """Values with their places and the findings met while reading them.

    Attributes:
        source: the file that was named.
        data: its values, pieces merged in.
        origins: for values that came from another file: the path here -> (file, path there).
        secrets: the named secrets in reach.
        findings: what reading has found so far.
        row: of a member of a family, its row of the table.
        reads: the other files that were read for it.
        gaps: keys that a piece or a row should have filled, and that were told already.
    """

    source: Source
    data: dict[str, Any]
    origins: dict[Keys, tuple[Source, Keys]] = field(default_factory=dict[Keys, tuple[Source, Keys]])
    secrets: Mapping[str, str] = field(default_factory=dict[str, str])
    findings: list[Finding] = field(default_factory=list[Finding])
    row: FamilyRow | None = None
    gaps: set[Keys] = field(default_factory=set[Keys])
    reads: set[Path] = field(default_factory=set[Path])

    @staticmethod
    def of(source: Source, secrets: Mapping[str, str] | None = None) -> Document:
        """The document of one file."""
        data = source.data
        return Document(source, data, secrets=secrets or {}, findings=list(source.findings))

    def place(self, path: Keys, of: str = "value", offset: int = 0) -> Place:
        """Where the value at `path` stands, in the file it came from."""
        if self.origins:
            for depth in range(len(path), 0, -1):
                if origin := self.origins.get(path[:depth]):
                    return origin[0].place((*origin[1], *path[depth:]), of, offset)
        return self.source.place(path, of, offset)

    def found(
        self,
        code: str,
        path: Keys,
        message: str,
        *,
        severity: Severity = "error",
        why: str = "",
        fixes: Iterable[str] = (),
        of: str = "value",
        offset: int = 0,
        width: int = 0,
    ) -> None:
        """Note a finding at `path`; `offset` and `width` narrow the place to a part of a text."""
        part = f"{path[0]}.{path[1]}" if len(path) > 1 and isinstance(path[1], str) else ""
        place = self.place(path, of, offset)
        if width:
            place = replace(place, width=min(width, place.width))
        elif offset and place.width > 1:  # the quote that ends a text is no part of what is wrong in it
            place = replace(place, width=place.width - 1)
        fixes_given = tuple(fix for fix in fixes if fix)
        self.findings.append(Finding(code, severity, place, message, why, fixes_given, part))

    def read(self, shape: Shape, table: Mapping[str, Any], path: Keys) -> dict[str, Any]:
        """The values of one table by its shape, defaults filled in.

        Every mistake becomes a finding; a field with a mistake is absent from the result.
        """
        values = shape.defaults.copy()
        by_name = shape.by_name
        misspelt: set[str] = set()
        for key, raw in table.items():
            known = by_name.get(key)
            if known is None:
                misspelt |= self._unknown(key, by_name, (*path, key), shape.elsewhere(key))
                continue
            try:
                values[key] = known.read(self._resolved(known, raw, (*path, key)))
            except Wrong as wrong:
                values.pop(key, None)
                for problem in (wrong, *wrong.more):
                    message = problem.message if problem.at else f"{key} {problem.message}"
                    self.found(problem.code, (*path, key, *problem.at), message, fixes=problem.fixes)
        for wanted in shape.required:
            if (
                wanted.name not in table
                and wanted.name not in misspelt
                and (*path, wanted.name) not in self.gaps
            ):
                self.missing(wanted, path)
        return values

    def _unknown(self, key: str, known: Iterable[str], path: Keys, elsewhere: str) -> set[str]:
        """Say that the key does not belong here; gives the keys that were meant, as far as one can tell."""
        if elsewhere:
            message = f"{key} has no effect in {_table_words(path[:-1])}: this key is only for {elsewhere}"
            self.found("unknown-key", path, message, fixes=(REMOVE,), of="key")
            return set()
        options = list(known)
        near = (_ABOVE,) if key in ("use", "with") and path[0] == "device" else nearest(key, options)
        fixes = near or (f"keys that may stand here: {', '.join(options)}",)
        message = f"{key} is not a key of {_table_words(path[:-1])}"
        self.found("unknown-key", path, message, fixes=fixes, of="key")
        return {name for name in options if near and f'"{name}"' in near[0]}

    def missing(self, field: Field, path: Keys, fixes: tuple[str, ...] = ()) -> None:
        """Note that a field must be given; `fixes` in place of what is usual for its name."""
        message = f"{_table_words(path)} needs {field.name}: {field.help}"
        self.found("missing-key", path, message, fixes=fixes or _EXAMPLES.get(field.name, ()), of="key")

    def _resolved(self, known: Field, raw: Any, path: Keys) -> Any:
        """The raw value with a named secret put in its place."""
        if isinstance(raw, Cell):
            raw = as_field(raw, known.schema)
        if isinstance(raw, str):
            self._inspect(known, raw, path)
            return raw
        if not isinstance(raw, dict) or cast(dict[str, Any], raw).keys() != {"secret"}:
            return cast(Any, raw)
        if not known.hidden:
            raise Wrong(
                "cannot be a secret: it is shown in reports or goes into the update package", "write it out"
            )
        name = cast(dict[str, Any], raw)["secret"]
        if not isinstance(name, str):
            raise Wrong(f"names a secret, and a name is a text, not {described(name)}")
        if name not in self.secrets:
            near = nearest(name, list(self.secrets))
            raise Wrong(
                f'needs the secret "{name}", which secrets.toml does not have',
                *near,
                f'add to secrets.toml: {name} = "…"',
                code="secret-missing",
            )
        return self.secrets[name]

    def _inspect(self, known: Field, raw: str, path: Keys) -> None:
        if _PLACEHOLDER.fullmatch(raw):
            self.found(
                "placeholder-left",
                path,
                f'{known.name} still holds the placeholder "{raw}"',
                severity="warning",
                fixes=(f"put your own {known.name} here",),
            )
        elif known.secret and raw:
            self.found(
                "secret-in-clear",
                path,
                f"{known.name} is readable here, in a file that gets shared",
                severity="warning",
                why="device and site files are copied, shown and kept in version control; secrets.toml is not.",
                fixes=(
                    f'{known.name} = {{ secret = "{"_".join(str(p) for p in path)}" }}, and the text in secrets.toml',
                ),
            )


def _table_words(path: Keys) -> str:
    return f"[{'.'.join(str(p) for p in path if isinstance(p, str))}]" if path else "the file"
