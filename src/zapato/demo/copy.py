"""Copying the demo site out, without ever overwriting what the user changed."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator
from importlib.resources import files
from importlib.resources.abc import Traversable
from pathlib import Path
from typing import cast

from zapato.lang.files import make_folder, write, write_private
from zapato.lang.json_text import read_json
from zapato.lang.site import add_update_key

NOTE = ".zapato-demo.json"
"""In the copied site: the hash of each file as it was copied out."""


def copy_site(to: Path, force: bool = False) -> Iterator[tuple[Path, str]]:
    """Copy the demo site to `to`; yields each path with "wrote", "same" or "kept" (changed by the user).

    A file that still is as it was copied out is brought up to date; one that the user changed is
    kept unless `force`. secrets.toml is never overwritten, and gets an update key for each device.
    Raises Unwritable.
    """
    make_folder(to)
    note = to / NOTE
    before = _noted(note)
    now: dict[str, str] = {}
    for name, content in sorted(_site(files("zapato.demo") / "site", "")):
        path = to / name
        now[name] = hashlib.sha256(content).hexdigest()
        if name == "secrets.toml":
            if not path.exists():
                write_private(path, content)
            continue
        yield path, _one(path, content, before.get(name, ""), force)
    write(note, json.dumps(now, indent=1, sort_keys=True) + "\n")
    for path in sorted((to / "devices").glob("*.toml")):
        if f"devices/{path.name}" in now:
            add_update_key(to, path.stem)


def _noted(note: Path) -> dict[str, str]:
    """What was copied out last time; nothing where the note is missing or damaged."""
    try:
        noted = read_json(note.read_text("utf-8"))
    except (OSError, ValueError):
        return {}
    return cast(dict[str, str], noted) if isinstance(noted, dict) else {}


def _one(path: Path, content: bytes, before: str, force: bool) -> str:
    if path.exists():
        held = path.read_bytes()
        if held == content:
            return "same"
        if hashlib.sha256(held).hexdigest() != before and not force:
            return "kept"
    write(path, content)
    return "wrote"


def _site(folder: Traversable, at: str) -> Iterator[tuple[str, bytes]]:
    for entry in folder.iterdir():
        if entry.is_dir():
            yield from _site(entry, f"{at}{entry.name}/")
        elif entry.name.endswith((".toml", ".csv")):
            yield f"{at}{entry.name}", entry.read_bytes()
