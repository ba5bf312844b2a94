"""Texts that somebody read and approved: what the code makes now is compared with them.

`APPROVE=1 pytest tests/...` writes them anew; the difference is then read in `git diff` before it is committed.
"""

import os
from pathlib import Path

FOLDER = Path(__file__).parents[1] / "data" / "approved"


def approve(name: str, text: str) -> None:
    """Fails where `text` is not the approved one of this name."""
    path = FOLDER / f"{name}.txt"
    if os.environ.get("APPROVE"):
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, "utf-8")
    assert path.is_file(), f"nobody approved {path.name} yet"
    assert text.splitlines() == path.read_text("utf-8").splitlines()
