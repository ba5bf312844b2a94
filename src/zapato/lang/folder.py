"""A folder of device files as bytes, read once while nothing in it changes."""

from __future__ import annotations

import os
import re
from contextlib import suppress
from functools import lru_cache
from pathlib import Path

from zapato.errors import Unreadable
from zapato.lang.family import is_family, members
from zapato.lang.source import read_bytes

_NAME = re.compile(rb"""(?ms)^\[device\]\s*$.*?^\s*name\s*=\s*["']([a-z0-9-]+)["']""")
"""The name in a file's [device]."""


def contents(folder: Path) -> tuple[tuple[Path, bytes], ...]:
    """The TOML files of a folder with their bytes, in the order of their names; none where it cannot be read."""
    return _contents(folder, _stamps(folder))


def names(folder: Path) -> list[str]:
    """The names of the TOML files of a folder; none where it cannot be read."""
    with suppress(OSError):
        return [name for name in os.listdir(folder) if name.endswith(".toml")]
    return []


def named(folder: Path) -> dict[str, Path]:
    """The devices of a folder by name, as far as their files say it plainly."""
    return _named(folder, _stamps(folder))


@lru_cache(maxsize=4)
def _named(folder: Path, stamps: tuple[tuple[str, int, int], ...]) -> dict[str, Path]:
    found: dict[str, Path] = {}
    for path, text in _contents(folder, stamps):
        if is_family(text):
            found |= {each.name: each for each in members(path, folder.parent)}
        elif name := _NAME.search(text):
            found[name[1].decode()] = path
    return found


def _stamps(folder: Path) -> tuple[tuple[str, int, int], ...]:
    """The files of a folder, each with when it changed and its size."""
    found: list[tuple[str, int, int]] = []
    with suppress(OSError), os.scandir(folder) as entries:
        for entry in entries:
            if entry.name.endswith(".toml") and entry.is_file():
                about = entry.stat()
                found.append((entry.name, about.st_mtime_ns, about.st_size))
    return tuple(sorted(found))


@lru_cache(maxsize=4)
def _contents(folder: Path, stamps: tuple[tuple[str, int, int], ...]) -> tuple[tuple[Path, bytes], ...]:
    found: list[tuple[Path, bytes]] = []
    for name, _, _ in stamps:
        with suppress(Unreadable):
            found.append((folder / name, read_bytes(folder / name)))
    return tuple(found)
