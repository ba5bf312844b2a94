"""The files that somebody has open: their texts as they are typed, and what the check finds in them."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from contextlib import suppress
from pathlib import Path
from typing import TypeVar

from zapato.checks import check_files, device_files
from zapato.checks.result import look_at
from zapato.design import Design, resolve
from zapato.editing.change import path_of
from zapato.errors import Unreadable
from zapato.findings import Finding
from zapato.lang.site import Site, site_of
from zapato.lang.source import Source
from zapato.lang.unsaved import unsaved

T = TypeVar("T")
Found = dict[Path, list[Finding]]


class Desk:
    """Open files by path. Whatever is asked sees what is typed and not saved, in all of them."""

    def __init__(self) -> None:
        self.texts: dict[Path, str] = {}
        self.found: Found = {}
        """What was found last in each open file."""

    def put(self, path: Path, text: str) -> None:
        """A file was opened, or changed."""
        self.texts[path] = text

    def drop(self, path: Path) -> None:
        """A file was closed: the one on the disk counts again."""
        self.texts.pop(path, None)
        self.found.pop(path, None)

    def seen(self, work: Callable[[], T]) -> T:
        """Do this with the texts as they are typed."""
        with unsaved(self.texts):
            return work()

    def text(self, path: Path) -> str:
        """The text of any file. Raises Unreadable."""
        return self.seen(lambda: Source.read(path).text)

    def design(self, path: Path) -> Design | None:
        """The device of a file, of a family's the first member; None where it is another kind of file."""
        if self.device_of(path) != path:
            return None
        with suppress(Unreadable):
            return self.seen(lambda: resolve(device_files(path)[0]))
        return None

    def spoken_of(self, path: Path) -> Design | None:
        """The device that a device file or its rehearsal speaks of; None for other files."""
        device = self.device_of(path)
        return self.design(device) if device else None

    def root_of(self, path: Path) -> Path | None:
        """The folder of the site that a file belongs to."""
        return self._site(path).root

    def device_of(self, path: Path) -> Path | None:
        """The device file that a file speaks of: itself, or that of its rehearsal; None for files of the whole site."""
        site = self._site(path)
        if site.root is None:
            return path if path.parent.name not in ("rehearsals", "pieces", "boards", "chips") else None
        if path.parent == site.root / "devices":
            return path
        if path.parent == site.root / "rehearsals":
            device = site.root / "devices" / path.name
            return device if device.is_file() or device in self.texts else None
        return (
            path
            if path.parent == site.root and path.name not in ("site.toml", "secrets.toml", "alerts.toml")
            else None
        )

    def check(self, path: Path) -> Found:
        """Check what a changed file speaks of; gives the findings of every open file that this tells anything about."""
        findings_of = self.seen(lambda: self._checked(path))
        new = {
            file: findings_of.get(file, [])
            for file in self.texts
            if file == path or self.device_of(path) is None
        }
        self.found.update(new)
        return new

    def _checked(self, path: Path) -> Found:
        device = self.device_of(path)
        try:
            if device is None:
                root = self._site(path).root
                return _by_file(check_files([root], device_files(root))) if root else _by_file(_alone(path))
            if device != path:
                return _by_file(look_at(device, whole=True).findings)
            return _by_file(check_files([path], device_files(path)))
        except Unreadable as error:
            from zapato.findings import Place

            return {path: [Finding("file-unreadable", "error", Place(str(path)), str(error))]}

    def _site(self, path: Path) -> Site:
        with suppress(Unreadable):
            return self.seen(lambda: site_of(path))
        return Site()


def _alone(path: Path) -> list[Finding]:
    """A file that belongs to no site and is no device: what can be said of it by itself."""
    return look_at(path).findings


def _by_file(findings: Iterable[Finding]) -> Found:
    by_file: Found = {}
    for finding in findings:
        if not finding.accepted:
            by_file.setdefault(path_of(finding.place.file), []).append(finding)
    return by_file
