"""Texts that somebody read and approved: what the code makes now is compared with them.

`APPROVE=1 pytest tests/...` (without `-n`) writes them anew; the difference is then read in `git diff` before it is committed.
"""

import difflib
import os
import re
from pathlib import Path

FOLDER = Path(__file__).parents[1] / "data" / "approved"
WRITES = bool(os.environ.get("APPROVE"))
_PLACE = re.compile(r"[^\s\"'(]*/pytest-of-[^/\s]+/pytest-\d+/(popen-gw\d+/)?[^/\s]+\d/")
"""A folder of one test run."""


def _compare(text: str, approved: str) -> None:
    rows = difflib.unified_diff(approved.splitlines(), text.splitlines(), "approved", "now", n=1, lineterm="")
    difference = "\n".join(rows)
    assert not difference, difference[:6000]


def approve(name: str, text: str) -> None:
    """Fails where `text` is not the approved one of this name."""
    path = FOLDER / f"{name}.txt"
    if WRITES:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, "utf-8")
    assert path.is_file(), f"nobody approved {path.name} yet"
    _compare(text, path.read_text("utf-8"))


def _sections(path: Path) -> dict[str, str]:
    rows = path.read_text("utf-8").split("\n== ")[1:] if path.is_file() else []
    return {head: body for head, _, body in (row.rstrip("\n").partition("\n") for row in rows)}


def approve_section(name: str, section: str, lines: list[str]) -> None:
    """The same of one section of a text that many tests share; one without lines has none."""
    path = FOLDER / f"{name}.txt"
    text = _PLACE.sub("", "\n".join(line.replace("\n", " ") for line in lines))
    known = _sections(path)
    if WRITES and (text or section in known):
        known = {**known, section: text} if text else {k: v for k, v in known.items() if k != section}
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text("".join(f"\n== {head}\n{known[head]}\n" for head in sorted(known)), "utf-8")
    _compare(text, known.get(section, ""))
