"""The boards that a site or an extension brings along: looked for at every call, read only where there are any."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field
from pathlib import Path

from zapato import extensions
from zapato.boards.board import Board
from zapato.findings import Finding
from zapato.lang.folder import remembered
from zapato.record import record


@record(eq=False)
class SiteBoards:
    """The boards of one site, by id, and the mistakes in their files."""

    boards: Mapping[str, Board] = field(default_factory=dict[str, Board])
    findings: tuple[Finding, ...] = ()
    texts: Mapping[str, str] = field(default_factory=dict[str, str])


def site_boards(root: Path | None) -> SiteBoards:
    """The boards in `root`/boards/ and of the extensions in force; read again when one of the files has changed."""
    return remembered(_site_boards_now, (root, extensions.scope()))


def _site_boards_now(key: tuple[Path | None, object]) -> SiteBoards:
    root, _ = key
    folders = [root / "boards"] if root else []
    folders += [bundle.folder / "boards" for bundle in extensions.bundles().values()]
    paths = [path for folder in folders for path in sorted(folder.glob("*.toml"))]
    if not paths:
        return SiteBoards()
    from zapato.boards.board_file import read_boards

    return read_boards(tuple((path, path.stat().st_mtime_ns) for path in paths))
