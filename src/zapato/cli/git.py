"""Which files changed since a git revision."""

from __future__ import annotations

import subprocess
from collections.abc import Sequence
from pathlib import Path

from zapato.errors import ZapatoError

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
    return [path for path in files if path.resolve() in changed]


def _git(folder: Path, *words: str) -> str:
    try:
        done = subprocess.run(["git", *words], cwd=folder, capture_output=True, text=True, check=False)
    except OSError:
        raise ZapatoError("git is not there, so --changed cannot be answered") from None
    if done.returncode:
        reason = (done.stderr.strip().splitlines() or ["no reason given"])[0]
        raise ZapatoError(f"git does not know what changed: {reason.removeprefix('fatal: ')}")
    return done.stdout
