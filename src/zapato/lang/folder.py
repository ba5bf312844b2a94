"""A folder of device files as bytes, read once while nothing in it changes.

While many devices are read in one go the disk counts as settled: each folder is looked at once.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Generator, Hashable
from contextlib import contextmanager, suppress
from contextvars import ContextVar
from pathlib import Path
from typing import Any, TypeVar, cast

from zapato.errors import Unreadable
from zapato.lang.family import is_family, members
from zapato.lang.source import read_bytes
from zapato.lang.unsaved import stamp as unsaved_stamp
from zapato.regex import regex

_NAME = regex(rb"""(?ms)^\[device\]\s*$.*?^\s*name\s*=\s*["']([a-z0-9-]+)["']""")
"""The name in a file's [device]."""

T = TypeVar("T")
K = TypeVar("K", bound=Hashable)
_settled: ContextVar[dict[tuple[object, Hashable], Any] | None] = ContextVar("settled", default=None)
"""While many devices are read in one go: what was made of folders and files so far."""


@contextmanager
def settled() -> Generator[None]:
    """Within it each folder is looked at once: what changes on the disk meanwhile is seen by the next call.

    Every device of a site asks for the names of the others. Looked up anew each time, thousands of devices are millions of files.
    """
    if _settled.get() is not None:
        yield
        return
    before = _settled.set({})
    try:
        yield
    finally:
        _settled.reset(before)


def remembered(make: Callable[[K], T], key: K) -> T:
    """What `make` makes of this; within `settled` it is made once."""
    known = _settled.get()
    if known is None:
        return make(key)
    if (make, key) not in known:
        known[make, key] = make(key)
    return cast(T, known[make, key])


def contents(folder: Path) -> tuple[tuple[Path, bytes], ...]:
    """The TOML files of a folder with their bytes, in the order of their names; none where it cannot be read."""
    return remembered(_contents_now, folder)


def names(folder: Path) -> list[str]:
    """The names of the TOML files of a folder; none where it cannot be read."""
    with suppress(OSError):
        return [name for name in os.listdir(folder) if name.endswith(".toml")]
    return []


def named(folder: Path) -> dict[str, Path]:
    """The devices of a folder by name, as far as their files say it plainly."""
    return remembered(_named_now, folder)


def device_file(folder: Path, name: str) -> Path | None:
    """Where the device of this name is, None where no file says so; the others are looked at only where its own file does not say it."""
    path = folder / f"{name}.toml"
    with suppress(Unreadable):
        text = read_bytes(path)
        match = None if is_family(text) else _NAME.search(text)
        if match and match[1].decode() == name:
            return path
    return named(folder).get(name)


def _contents_now(folder: Path) -> tuple[tuple[Path, bytes], ...]:
    return tuple((folder / name, file.text) for name, file in _files(folder).items())


def _named_now(folder: Path) -> dict[str, Path]:
    paths: dict[str, Path] = {}
    for name, file in _files(folder).items():
        if file.family:  # its table may have changed
            paths |= {member.name: member for member in members(folder / name, folder.parent)}
        elif file.device:
            paths[file.device] = folder / name
    return paths


class _File:
    """A file as it was last read: of a folder of thousands only those that changed are read again."""

    def __init__(self, stamp: tuple[int, int], text: bytes) -> None:
        self.stamp, self.text, self.family = stamp, text, is_family(text)
        name = None if self.family else _NAME.search(text)
        self.device = name[1].decode() if name else ""


_KEPT = 4
"""Folders whose files are kept at the most."""
_kept: dict[Path, dict[str, _File]] = {}


def _files(folder: Path) -> dict[str, _File]:
    """The TOML files of a folder, in the order of their names."""
    before, now = _kept.pop(folder, {}), dict[str, _File]()
    for name, stamp in _stamps(folder):
        known = before.get(name)
        if known and known.stamp == stamp:
            now[name] = known
            continue
        with suppress(Unreadable):
            now[name] = _File(stamp, read_bytes(folder / name))
    _kept[folder] = now
    while len(_kept) > _KEPT:
        _kept.pop(next(iter(_kept)))
    return now


def _stamps(folder: Path) -> list[tuple[str, tuple[int, int]]]:
    """The files of a folder, each with when it changed and its size, or what tells an unsaved text from another."""
    stamps: list[tuple[str, tuple[int, int]]] = []
    with suppress(OSError), os.scandir(folder) as entries:
        for entry in entries:
            if entry.name.endswith(".toml") and entry.is_file():
                about = entry.stat()
                stamps.append((entry.name, unsaved_stamp(entry.path) or (about.st_mtime_ns, about.st_size)))
    return sorted(stamps)
