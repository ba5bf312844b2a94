"""What a check of a large site found, kept for the next one: a device whose files did not change is not looked at again.

What a result was made of is compared by content. What all devices share (site.toml, secrets, pieces, tables, boards, chips, extensions, and
Zapato itself) counts for all of them: when it changes, everything is looked at again. Members of families and unsaved texts are never kept.
Contents are compared as they were before anything was looked at: what is saved while a check runs is looked at by the next one.
The index is in the user's cache folder, not in the site: nothing that comes with a site is loaded as one.
"""

from __future__ import annotations

import os
import pickle
import platform
import sys
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from hashlib import blake2b
from importlib.resources import files
from pathlib import Path

from zapato import extensions
from zapato.checks.result import CheckResult
from zapato.errors import ZapatoError
from zapato.lang.files import write_private
from zapato.lang.folder import named
from zapato.lang.site import site_of
from zapato.lang.source import MEMBER
from zapato.lang.unsaved import any_unsaved

PAYS = 100
"""Devices of a site from which on it pays."""
LARGEST = 1 << 20
"""Bytes of a shared file whose content is compared; of a larger one time and size."""
Digest = bytes
NOTHING = b""
"""The digest of a file that is not there."""


class CheckIndex:
    """The index of one site for calls of one kind. Open it with `index_of`."""

    def __init__(self, root: Path, files: Sequence[Path], whole: bool) -> None:
        self._root, self._rehearsals = root, f"{root}{os.sep}rehearsals"
        own = [*(str(path.absolute()) for path in files), *_walk(self._rehearsals)]
        self._digests: dict[str, Digest] = {file: _content(file) for file in own}
        self._names: Digest | None = None
        self._key = _key(root, {str(path.absolute()) for path in files})
        kind = f"{root}\n{os.getcwd()}\n{whole}"
        self._file = _folder() / f"{blake2b(kind.encode(), digest_size=16).hexdigest()}.pickle"
        self._known = self._read()
        self._new: dict[str, tuple[tuple[tuple[str, Digest], ...], Digest | None, CheckResult]] = {}
        self._changed = False

    def known(self, path: Path) -> CheckResult | None:
        """What was found in this file, where all that it was made of is as it was."""
        entry = self._known.get(str(path))
        if entry is None:
            return None
        made_of, names, result = entry
        if any(self._digest(file) != digest for file, digest in made_of):
            return None
        if names is not None and names != self._all_names():
            return None
        self._new[str(path)] = entry
        return result

    def unknown(self, files: Sequence[Path]) -> int:
        """How many of these files are to be looked at."""
        return sum(self.known(path) is None for path in files)

    def keep(self, result: CheckResult) -> None:
        """Remember what was found in a file."""
        if not result.made_of or MEMBER in str(result.path):
            return
        made_of = tuple((file, self._digest(file)) for file in result.made_of)
        names = self._all_names() if result.names_count else None
        self._new[str(result.path)] = (made_of, names, result)
        self._changed = True

    def save(self) -> None:
        """Write it for the next call; where it cannot be written the next call looks at everything again."""
        if self._changed or len(self._new) != len(self._known):
            with suppress(ZapatoError, OSError):
                payload = pickle.dumps(self._new, pickle.HIGHEST_PROTOCOL)
                write_private(self._file, self._key + _sum(payload) + payload)

    def _read(self) -> dict[str, tuple[tuple[tuple[str, Digest], ...], Digest | None, CheckResult]]:
        """What was kept, where the key is the same and the rest is whole."""
        try:
            data = self._file.read_bytes()
        except OSError:
            return {}
        payload = data[len(self._key) + SUM :]
        whole = data[: len(self._key) + SUM] == self._key + _sum(payload)
        return pickle.loads(payload) if whole else {}

    def _digest(self, file: str) -> Digest:
        if file not in self._digests:  # a rehearsal that was not there before is none
            self._digests[file] = NOTHING if os.path.dirname(file) == self._rehearsals else _content(file)
        return self._digests[file]

    def _all_names(self) -> Digest:
        """What the site's devices are called: a device that names another one depends on it."""
        if self._names is None:
            names = sorted(named(self._root / "devices"))
            self._names = blake2b("\n".join(names).encode(), digest_size=16).digest()
        return self._names


def index_of(paths: Sequence[Path], files: Sequence[Path]) -> CheckIndex | None:
    """The index for a check of these files; None where none pays: few devices, no site, several, or texts that are nowhere on the disk."""
    if len(files) < PAYS or any_unsaved():
        return None
    roots = {path.absolute() for path in paths if path.is_dir()}
    root = site_of(files[0]).root
    if (
        root is None
        or len(roots) != 1
        or any(not str(path.absolute()).startswith(f"{root}{os.sep}") for path in files)
    ):
        return None
    return CheckIndex(root, files, bool(roots & {root}))


SUM = 32
"""Bytes of the checksum."""


def _sum(payload: bytes) -> bytes:
    return blake2b(payload, digest_size=SUM).digest()


def _folder() -> Path:
    from platformdirs import user_cache_path

    return user_cache_path("zapato", appauthor=False) / "checks"


def _content(file: str) -> Digest:
    try:
        with open(file, "rb") as opened:
            return blake2b(opened.read(), digest_size=16).digest()
    except OSError:
        return NOTHING


def _key(root: Path, devices: set[str]) -> bytes:
    """The digest of what every result depends on; the device files themselves and their rehearsals are left out."""
    total = blake2b(digest_size=32)
    total.update(
        f"{platform.python_version()} {sys.flags.optimize} {os.environ.get(extensions.OFF)}\n".encode()
    )
    for name, stamp in _shared(root, devices):
        total.update(f"{name}\0".encode("utf-8", "surrogateescape") + stamp)
    return total.digest()


def _shared(root: Path, devices: set[str]) -> Iterator[tuple[str, bytes]]:
    rehearsals = f"{root}{os.sep}rehearsals"
    for file in _walk(str(root)):
        own = os.path.dirname(file) == rehearsals and file.endswith(".toml")
        if not own and file not in devices and os.path.basename(file) != "zapato.lock":
            yield file, _stamp(file) if _size(file) > LARGEST else _content(file)
    site_of(root)  # whose extensions count
    folders = [Path(str(files("zapato"))), *(b.folder for b in extensions.bundles().values())]
    for folder in folders:
        for file in _walk(str(folder)):
            yield file, _stamp(file)


def _walk(folder: str) -> Iterable[str]:
    for where, below, names in os.walk(folder):
        below[:] = sorted(
            each for each in below if each not in ("out", "build", "__pycache__") and not each.startswith(".")
        )
        yield from (f"{where}{os.sep}{name}" for name in sorted(names) if not name.startswith("."))


def _size(file: str) -> int:
    """Bytes; 0 of what is gone, or of a link that leads nowhere."""
    with suppress(OSError):
        return os.path.getsize(file)
    return 0


def _stamp(file: str) -> bytes:
    with suppress(OSError):
        about = os.stat(file)
        return f"{about.st_mtime_ns} {about.st_size}\n".encode()
    return NOTHING
