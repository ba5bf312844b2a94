"""A TOML file with places: values at once, lines and columns only when something asks for them.

Most files are right, so the values come from a standard reader. Where that
reader gives up, or a finding needs a place, an error-tolerant syntax tree is made: it
gives every syntax error of the file, keeps what could still be read, and knows where
each key and value stands.
"""

from __future__ import annotations

import os
import stat
import sys
from codecs import BOM_UTF8
from collections.abc import Generator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import field
from functools import cached_property, lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

import tomli

from zapato.errors import Unreadable
from zapato.findings import Finding, Place
from zapato.lang.unsaved import instead
from zapato.record import record

if TYPE_CHECKING:
    from zapato.lang.tree import Places

STDIN = "-"
"""Stands for the file that comes in through standard input."""
MEMBER = f".toml{os.sep}"
"""In the path of a family's member."""
LARGEST = 1 << 20
"""A device file is a page or two; beyond this many bytes it is something else."""

Keys = tuple[str | int, ...]
"""The way to a value: keys, and positions in arrays from 0."""


_HERE: ContextVar[Path | None] = ContextVar("here", default=None)


def here() -> Path:
    """The folder that people see paths from: this process's own, or that of whoever asked for this work."""
    return _HERE.get() or Path.cwd()


@contextmanager
def seen_from(folder: Path) -> Generator[None]:
    """Paths are shown as from this folder."""
    before = _HERE.set(folder)
    try:
        yield
    finally:
        _HERE.reset(before)


def shown(path: Path) -> str:
    """The path as people would type it from here."""
    try:
        return str(path.relative_to(here()))
    except ValueError:
        return str(path)


def inside(path: Path, root: Path) -> Path:
    """The path, where it lies in the folder. Raises Unreadable: a file that somebody sends reads nothing beside its site."""
    if not path.resolve().is_relative_to(root.resolve()):
        raise Unreadable(f"{shown(path)} is outside the site {shown(root)}", "copy it into the site")
    return path


def read_bytes(path: Path) -> bytes:
    """The bytes of a regular file. Raises Unreadable with one clear line."""
    if str(path) == STDIN:
        return sys.stdin.buffer.read(LARGEST + 1) if sys.stdin else b""
    if (text := instead(path)) is not None:
        return text
    try:
        about = path.stat()
        if not stat.S_ISREG(about.st_mode):
            raise Unreadable(f"{shown(path)} is not a file")
        with path.open("rb") as file:
            return file.read(LARGEST + 1)
    except OSError as error:
        raise Unreadable(f"cannot read {shown(path)}: {os.strerror(error.errno or 0).lower()}") from None
    except ValueError as error:
        raise Unreadable(f"cannot read {str(path)!r}: {error}") from None


@record
class Source:
    """One file: its text, its values, and where they stand."""

    path: Path
    text: str
    problem: str = ""
    findings: list[Finding] = field(default_factory=list[Finding])
    row: str = ""
    """The member of a family that it was read for."""
    _readable: str = ""

    @staticmethod
    def read(path: Path) -> Source:
        """The file at `path`, or that of a family whose member is named. Raises Unreadable; a file that is no TOML has findings instead."""
        row = ""
        if MEMBER in str(path) and path.parent.is_file():
            path, row = path.parent, path.name
        raw = read_bytes(path)
        if len(raw) > LARGEST:
            return Source(path, "", f"larger than {LARGEST >> 20} MiB: this is not a device file")
        try:
            return Source(path, raw.removeprefix(BOM_UTF8).decode().replace("\r\n", "\n"), row=row)
        except UnicodeDecodeError as error:
            return Source(path, "", f"not UTF-8 text: byte 0x{raw[error.start]:02x} at offset {error.start}")

    @property
    def own(self) -> Path:
        """The path that it was read by: the file's, with the member's name where it is one of a family."""
        return self.path / self.row if self.row else self.path

    @cached_property
    def name(self) -> str:
        """The file as findings name it."""
        return shown(self.path)

    @cached_property
    def data(self) -> dict[str, Any]:
        """The values of the file; what could not be read is absent and has a finding."""
        if self.problem:
            self.findings.append(Finding("toml-syntax", "error", Place(self.name), self.problem))
            return {}
        try:
            parsed = _parsed(self.text)
            return self._recover() if parsed is None else _copy(parsed)
        except (ValueError, RecursionError):
            return self._recover()

    @cached_property
    def _places(self) -> Places:
        from zapato.lang.tree import Places

        return Places("" if self.problem else self._readable or self.text)

    def place(self, path: Keys, of: str = "value", offset: int = 0) -> Place:
        """Where the value (or `of` "key") at `path` stands; the nearest table that exists, else line 1."""
        self.data  # noqa: B018 - broken lines must be blanked before places are looked up
        span = self._places.span(path, of)
        if span is None:
            return Place(self.name)
        return Place(self.name, span.line, span.column + offset, max(1, span.width - offset))

    def _recover(self) -> dict[str, Any]:
        from zapato.lang.recover import recover

        values, self._readable, problems = recover(self.text)
        for p in problems:
            place = Place(self.name, p.line, p.column, p.width)
            self.findings.append(Finding(p.code, "error", place, p.message, fixes=(p.fix,) if p.fix else ()))
        return values


@lru_cache(maxsize=256)
def _parsed(text: str) -> dict[str, Any] | None:
    """The values of a text, None where it is more than anybody writes. One device after the other asks for the same files:
    the devices that it hears, its family's. Raises what the reader raises."""
    from zapato.lang.recover import huge

    return None if huge(text) else tomli.loads(text)


def _copy(value: Any) -> Any:
    """Values that whoever reads them may change."""
    if isinstance(value, dict):
        return {key: _copy(element) for key, element in cast(dict[str, Any], value).items()}
    if isinstance(value, list):
        return [_copy(item) for item in cast(list[Any], value)]
    return value


def table(data: Mapping[str, Any], key: str) -> dict[str, Any]:
    """The table at `key`, or an empty one where there is none or something else stands there."""
    value = data.get(key)
    return cast(dict[str, Any], value) if isinstance(value, dict) else {}
