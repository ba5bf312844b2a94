"""What was built last of each device of a site, and of what: `zapato.lock`, worth committing; its history is the firmware's.

Nothing in it tells of a secret: a device's own secrets are compared by a mark beside its other secrets, in the folder of results.

What changed is known by digests of files, not by resolving: an unchanged site takes the time to read it.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Iterator, Mapping
from functools import cache, lru_cache
from importlib.resources import files
from importlib.resources.abc import Traversable
from pathlib import Path
from typing import Any, cast

import tomli

from zapato import extensions
from zapato.design import Design
from zapato.errors import Unreadable
from zapato.lang.family import row_of
from zapato.lang.files import locked, write
from zapato.lang.site import site_of
from zapato.lang.source import Source, read_bytes, shown, table
from zapato.record import record

NAME = "zapato.lock"
"""The file, beside site.toml."""
FORMAT = 1
_HEAD = """# What `zapato build` made last of each device, and of what. Made by Zapato, worth committing.
"""


@record(frozen=True)
class Entry:
    """One device in the lock file.

    Attributes:
        device, version, board, topic: its own.
        address: where the site gives it a fixed one, else "".
        file: its device file, or member of a family, from the site's folder.
        reads: the other files that it was made of, from the site's folder.
        inputs: digest of all that it was made of, Zapato itself and the site's own files included.
        update: digest of its update package.
    """

    device: str
    version: str
    board: str
    topic: str
    address: str
    file: str
    reads: tuple[str, ...]
    inputs: str
    update: str = ""

    @staticmethod
    def of(design: Design) -> Entry | None:
        """The entry of a design, nothing built of it yet; None where it belongs to no site, or reads files outside of it."""
        root = design.site.root
        if root is None:
            return None
        source = design.document.source
        try:
            file = source.own.absolute().relative_to(root).as_posix()
            reads = tuple(sorted({path.absolute().relative_to(root).as_posix() for path in _reads(design)}))
        except ValueError:
            return None
        address = (design.address or ("",))[0]
        board = design.board.id if design.board else ""
        inputs = inputs_digest(root, file, reads, source)
        return Entry(design.name, design.version, board, design.topic, address, file, reads, inputs)


def _reads(design: Design) -> Iterable[Path]:
    """The other files that a design was made of."""
    root = cast(Path, design.site.root)
    own = design.document.source.path.absolute()
    yield from (path for path in design.document.reads if path.absolute() != own)
    for heard in design.heard.values():
        yield heard.design.document.source.path
        yield from heard.design.document.reads
    if authority := (design.mqtt or {}).get("authority"):
        yield root / authority


def inputs_digest(root: Path, file: str, reads: Iterable[str], source: Source | None = None) -> str:
    """The digest of what a device is made of; of a family's table the own row counts alone. "" where a file is not there any more.

    `source` is the device file where it was read already.
    """
    total = hashlib.sha256(f"{program_digest()}\n{_shared(root, _shared_stamps(root))}\n".encode())
    try:
        source = source or Source.read(root / file)
        row = row_of(source, root)
        total.update(source.text.encode())
        if row is not None:
            total.update(json.dumps(row.values, sort_keys=True, default=str).encode())
        for name in reads:
            if row is None or (root / name) != row.source.path:
                total.update(name.encode() + b"\0" + hashlib.sha256(read_bytes(root / name)).digest())
    except Unreadable:
        return ""
    return total.hexdigest()


@lru_cache(maxsize=4)
def _shared(root: Path, stamps: tuple[tuple[str, int, int], ...]) -> str:
    """The digest of what all devices of a site share: site.toml, the site's own boards and chips, and extensions."""
    total = hashlib.sha256()
    for name, _, _ in stamps:
        total.update(name.encode() + b"\0" + (root / name).read_bytes())
    return total.hexdigest()


def _shared_stamps(root: Path) -> tuple[tuple[str, int, int], ...]:
    stamps: list[tuple[str, int, int]] = []
    for path in _shared_files(root):
        try:
            about = path.stat()
        except OSError:
            continue
        name = path.relative_to(root).as_posix() if path.is_relative_to(root) else str(path)
        stamps.append((name, about.st_mtime_ns, about.st_size))
    return tuple(stamps)


def _shared_files(root: Path) -> Iterator[Path]:
    yield root / "site.toml"
    for folder in ("boards", "chips"):
        yield from sorted((root / folder).glob("*.toml"))
    site_of(root)  # whose extensions count
    for bundle in extensions.bundles().values():
        yield from sorted(
            path for path in bundle.folder.rglob("*") if path.suffix in (".py", ".toml", ".json")
        )


@cache
def program_digest() -> str:
    """The digest of Zapato itself: another one may make another firmware of the same files."""
    total = hashlib.sha256()
    for name, data in sorted(_own_files(files("zapato"), "")):
        total.update(name.encode() + b"\0" + hashlib.sha256(data).digest())
    return total.hexdigest()


def _own_files(folder: Traversable, before: str) -> Iterable[tuple[str, bytes]]:
    for path in folder.iterdir():
        name = f"{before}{path.name}"
        if path.is_dir():
            if path.name not in ("__pycache__", "cli", "hub", "draw", "pages", "demo", "deliver", "vm_image"):
                yield from _own_files(path, f"{name}/")
        elif path.name.endswith((".py", ".toml", ".json", ".html")):
            yield name, path.read_bytes()


@record(frozen=True)
class Lock:
    """The lock file of a site: its entries by device."""

    entries: Mapping[str, Entry]

    @staticmethod
    def read(root: Path) -> Lock:
        """That of the site in this folder; empty where it has none. Raises Unreadable."""
        path = root / NAME
        try:
            data = tomli.loads(path.read_text("utf-8"))
        except FileNotFoundError:
            return Lock({})
        except (OSError, ValueError) as error:
            raise _unreadable(path, str(error).splitlines()[0]) from None
        if data.get("zapato") != FORMAT:
            raise _unreadable(path, f"it is not of format {FORMAT}")
        rows = table(data, "device")
        return Lock({name: entry for name, row in rows.items() if (entry := _entry(name, row))})

    def by_file(self) -> Mapping[str, Entry]:
        """The entries by the device's file."""
        return {entry.file: entry for entry in self.entries.values()}

    def write(self, root: Path) -> bool:
        """Put it beside site.toml; False where it stood there already. Raises Unwritable."""
        return write(root / NAME, self.text())

    def text(self) -> str:
        """The file: a table for each device, in the order of their names, so that a merge finds its way."""
        blocks = [f"{_HEAD}zapato = {FORMAT}\n"]
        for name, entry in sorted(self.entries.items()):
            rows = {
                "version": entry.version, "board": entry.board, "topic": entry.topic, "address": entry.address,
                "file": entry.file, "reads": list(entry.reads), "inputs": entry.inputs, "update": entry.update,
            }  # fmt: skip
            lines = [
                f"{key} = {json.dumps(value, ensure_ascii=False)}" for key, value in rows.items() if value
            ]
            blocks.append("\n".join([f"[device.{name}]", *lines]) + "\n")
        return "\n".join(blocks)


def _unreadable(path: Path, why: str) -> Unreadable:
    fix = "remove it: the next build writes it again, for all devices"
    return Unreadable(f"{shown(path)} cannot be read: {why}", fix)


def _entry(name: str, row: object) -> Entry | None:
    """One table of the file; None where it is none that was written by us, so that its device counts as changed."""
    texts: dict[str, Any] = cast(dict[str, Any], row) if isinstance(row, dict) else {}
    reads: object = texts.get("reads", [])
    given = {
        key: texts.get(key, "")
        for key in ("version", "board", "topic", "address", "file", "inputs", "update")
    }
    if not isinstance(reads, list) or not all(isinstance(text, str) for text in given.values()):
        return None
    return Entry(name, **given, reads=tuple(map(str, cast(list[object], reads))))


def keep(root: Path, built: Iterable[Entry], files: Iterable[Path] | None = None) -> bool:
    """Put what was built into the site's lock file; with `files`, all that the site has, devices without one are left out.

    False where nothing changed. Raises Unreadable, Unwritable.
    """
    with locked(root / NAME):
        entries = {**Lock.read(root).entries, **{build.device: build for build in built}}
        if files is not None:
            present = {_from(root, path) for path in files}
            entries = {name: entry for name, entry in entries.items() if entry.file in present}
        return Lock(entries).write(root)


def changed(files: Iterable[Path]) -> list[Path]:
    """Those of these device files that are not what the lock files of their sites say was built. Raises Unreadable."""
    return [path for path in files if entry_of(path) is None]


def entry_of(path: Path) -> Entry | None:
    """The lock file's entry of a device file that has not changed since; None where it has, or was never built. Raises Unreadable."""
    root = site_of(path).root
    if root is None:
        return None
    entry = _entries(root, _stamp(root)).get(_from(root, path))
    return entry if entry and entry.inputs == inputs_digest(root, entry.file, entry.reads) else None


def _from(root: Path, path: Path) -> str:
    try:
        return path.absolute().relative_to(root).as_posix()
    except ValueError:
        return ""


def _stamp(root: Path) -> tuple[int, int]:
    try:
        about = (root / NAME).stat()
    except OSError:
        return 0, 0
    return about.st_mtime_ns, about.st_size


@lru_cache(maxsize=4)
def _entries(root: Path, stamp: tuple[int, int]) -> Mapping[str, Entry]:
    return Lock.read(root).by_file()


def rehearsal_digest(path: Path, script: Path | None, seed: int | None) -> str:
    """The digest of a rehearsal: the device, its script, recordings beside that, the seed; "" where that cannot be told. Raises Unreadable."""
    from zapato.design import resolve
    from zapato.design.script import scripts

    design = resolve(path)
    entry = Entry.of(design)
    file = script or next((script for script in scripts(design) if script.is_file()), None)
    if entry is None or not entry.inputs or file is None:
        return ""
    total = hashlib.sha256(f"{entry.inputs}\n{seed}\n".encode() + read_bytes(file))
    for sound in sorted(file.absolute().parent.glob("*.wav")):
        stamp = sound.stat()
        total.update(f"{sound.name} {stamp.st_size} {stamp.st_mtime_ns}\n".encode())
    return total.hexdigest()
