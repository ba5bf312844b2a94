"""What git knows of device files: which changed since a revision, and what they were then."""

from __future__ import annotations

import io
import subprocess
import tarfile
import tempfile
from collections.abc import Generator, Sequence
from contextlib import contextmanager
from pathlib import Path

from zapato.errors import ZapatoError
from zapato.lang.source import MEMBER

SHARED = ("site.toml", "secrets.toml")
"""Files that concern every device of a site, as its pieces and boards do."""


def changed_files(files: Sequence[Path], revision: str) -> list[Path]:
    """Those of `files` that changed since `revision`; all of them where something they share did.

    Raises ZapatoError where there is no git, no repository or no such revision.
    """
    if not files:
        return []
    folder = files[0].absolute().parent
    root = Path(_git(folder, "rev-parse", "--show-toplevel").strip())
    names = _git(root, "diff", "--name-only", "-z", revision, "--").split("\0")
    names += _git(root, "ls-files", "--others", "--exclude-standard", "-z").split("\0")
    changed = {(root / name).resolve() for name in names if name}
    if any(path.name in SHARED or path.parent.name in ("pieces", "boards") for path in changed):
        return list(files)
    tables = any(path.suffix in (".csv", ".toml") and path.parent.name == "tables" for path in changed)
    return [
        path
        for path in files
        if path.resolve() in changed or (MEMBER in str(path) and (tables or path.parent.resolve() in changed))
    ]


@contextmanager
def as_it_was(path: Path, revision: str) -> Generator[Path]:
    """The file or folder at `path` as it was in a revision, with its site around it, until the end of the context.

    The secrets are those of today: they belong in no repository. Raises ZapatoError where git knows no such revision.
    """
    from zapato.lang.files import write_private
    from zapato.lang.site import site_of

    where = path.absolute()
    site = site_of(where).root or (where if where.is_dir() else where.parent)
    try:
        root = Path(_git(site, "rev-parse", "--show-toplevel").strip())
        below = site.resolve().relative_to(root.resolve())
        done = subprocess.run(
            ["git", "archive", revision, "--", str(below)], cwd=root, capture_output=True, check=False
        )
    except ZapatoError as error:
        raise ZapatoError(
            f"{revision} is no file here, and {error}", "name a file, a folder, or a revision of git"
        ) from None
    if done.returncode:
        raise ZapatoError(
            f"{revision} is no file here, and no revision in which git knows {path}",
            "name a file, a folder, or a revision of git",
        )
    with tempfile.TemporaryDirectory() as name:
        with tarfile.open(fileobj=io.BytesIO(done.stdout)) as held:
            held.extractall(name, filter="data")
        then = Path(name) / below
        if (site / "secrets.toml").is_file() and not (then / "secrets.toml").exists():
            write_private(then / "secrets.toml", (site / "secrets.toml").read_bytes())
        earlier = then / where.resolve().relative_to(site.resolve())
        if not earlier.exists():
            raise ZapatoError(f"{path} was not there in {revision}")
        yield earlier


def _git(folder: Path, *words: str) -> str:
    try:
        done = subprocess.run(["git", *words], cwd=folder, capture_output=True, text=True, check=False)
    except OSError:
        raise ZapatoError("git is not there, so --changed cannot be answered") from None
    if done.returncode:
        reason = (done.stderr.strip().splitlines() or ["no reason given"])[0]
        raise ZapatoError(f"git does not know what changed: {reason.removeprefix('fatal: ')}")
    return done.stdout
