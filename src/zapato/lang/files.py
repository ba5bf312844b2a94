"""Writing files so that nothing is lost: to a temporary name beside the place, then renamed over it."""

from __future__ import annotations

import contextlib
import os
import tempfile
from collections.abc import Generator
from pathlib import Path

from zapato.errors import Unwritable
from zapato.lang.source import shown


def make_folder(path: Path) -> None:
    """The folder at `path` with its parents. Raises Unwritable."""
    try:
        path.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise _unwritable(path, error) from None


def write(path: Path, content: str | bytes, mode: int = 0o644) -> bool:
    """Put `content` at `path`, whole or not at all; False where it stood there already.

    Raises Unwritable; what was there before is then still there.
    """
    data = content.encode() if isinstance(content, str) else content
    try:
        if path.read_bytes() == data and path.stat().st_mode & 0o777 == mode:
            return False
    except OSError:
        pass
    make_folder(path.parent)
    try:
        handle, temporary = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
    except OSError as error:
        raise _unwritable(path, error) from None
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(data)
            file.flush()
            if hasattr(os, "fchmod"):  # Windows has no such modes
                os.fchmod(file.fileno(), mode)
        os.replace(temporary, path)
    except BaseException as error:
        Path(temporary).unlink(missing_ok=True)
        if isinstance(error, OSError):
            raise _unwritable(path, error) from None
        raise
    return True


def write_private(path: Path, content: str | bytes) -> bool:
    """As `write`, readable by the owner alone."""
    return write(path, content, 0o600)


@contextlib.contextmanager
def locked(path: Path) -> Generator[None]:
    """Alone with the file at `path` among all processes that ask for it this way; waits for the others. Raises Unwritable.

    The lock is a hidden file beside it, one for the folder; where the file system knows no locks, a file that is there counts as one.
    """
    from filelock import FileLock  # 0.1 s to import: only who writes waits for it

    make_folder(path.parent)
    lock = FileLock(path.with_name(".zapato-busy"), mode=0o600)
    try:
        lock.acquire()
    except OSError as error:
        raise _unwritable(path, error) from None
    try:
        yield
    finally:
        lock.release()


def _unwritable(path: Path, error: OSError) -> Unwritable:
    return Unwritable(f"cannot write {shown(path)}: {os.strerror(error.errno or 0).lower()}")
