"""Texts that stand in for files: what somebody types and has not saved, or what a change would make of them.

Everything that reads asks here first, so that the editor's server, `fix` and `rename` check texts that are nowhere on the disk.
"""

from __future__ import annotations

from collections.abc import Generator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from pathlib import Path

_TEXTS: ContextVar[Mapping[str, bytes] | None] = ContextVar("unsaved", default=None)


@contextmanager
def unsaved(texts: Mapping[Path, str]) -> Generator[None]:
    """Within it these texts are read in place of the files at these paths, and beside those that others put there."""
    known = {**(_TEXTS.get() or {}), **{str(path.absolute()): text.encode() for path, text in texts.items()}}
    before = _TEXTS.set(known)
    try:
        yield
    finally:
        _TEXTS.reset(before)


def any_unsaved() -> bool:
    """Whether some text stands in for a file now."""
    return bool(_TEXTS.get())


def instead(path: Path | str) -> bytes | None:
    """What is read in place of the file at this path; None where the file itself is."""
    texts = _TEXTS.get()
    return texts.get(str(Path(path).absolute())) if texts else None


def stamp(path: Path | str) -> tuple[int, int] | None:
    """What tells such a text from another one: its checksum and size; None where there is none."""
    text = instead(path)
    if text is None:
        return None
    import zlib

    return zlib.crc32(text), len(text)
