"""Where descriptions of sensor chips are, by name: asked for at every check, so nothing of them is read here."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from functools import lru_cache
from pathlib import Path

from zapato import extensions
from zapato.lang.folder import remembered

OWN = Path(__file__).parents[1] / "chips"


def folders() -> Iterator[Path]:
    """Where descriptions are, the nearest first."""
    if root := extensions.site_root():
        yield root / "chips"
    for bundle in extensions.bundles().values():
        yield bundle.folder / "chips"
    yield OWN


def described_names() -> frozenset[str]:
    """The names of all described chips; looked for anew when a folder has changed."""
    return remembered(_names_now, extensions.scope())


def _names_now(_scope: object) -> frozenset[str]:
    stamps: list[tuple[Path, int]] = []
    for folder in folders():
        with suppress(OSError):
            stamps.append((folder, folder.stat().st_mtime_ns))
    return _names(tuple(stamps))


@lru_cache(maxsize=8)
def _names(stamps: tuple[tuple[Path, int], ...]) -> frozenset[str]:
    return frozenset(path.stem for folder, _ in stamps for path in folder.glob("*.toml"))


def file_of(name: str) -> Path | None:
    """The description of this name, the nearest; None where there is none."""
    return next((path for folder in folders() if (path := folder / f"{name}.toml").is_file()), None)
