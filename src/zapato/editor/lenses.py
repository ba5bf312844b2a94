"""What stands above a device's table: its memory, its last rehearsal; and the way to accept a finding."""

from __future__ import annotations

from collections.abc import Iterator

from zapato.budgets.whole import budget
from zapato.design import Design
from zapato.design.script import scripts
from zapato.editing.change import Edit, line_of
from zapato.editing.ways import WayOut
from zapato.findings import Finding

Lens = tuple[int, str, str]
"""Line, title, and the command that it runs, or ""."""


def lenses(design: Design, result: str) -> Iterator[Lens]:
    """Above [device]: heap and flash by the budget, the pictures, the rehearsal and what it gave last."""
    line = design.document.place(("device",), "key").line
    if design.board is not None:
        yield line, _memory(design), ""
        yield line, "draw", "zapato.draw"
    if any(script.is_file() for script in scripts(design)):
        yield line, f"rehearse{f': {result}' if result else ''}", "zapato.rehearse"


def _memory(design: Design) -> str:
    """ "heap 22.0 of 35.8 KiB, flash 19.3 KiB"."""
    rows = {row.of: row for row in budget(design).rows if row.topic == "memory"}
    texts: list[str] = []
    if heap := rows.get("heap"):
        texts.append(f"heap {heap.value / 1024:.1f} of {(heap.limit or 0) / 1024:.1f} KiB")
    if flash := rows.get("flash"):
        texts.append(f"flash {flash.value / 1024:.1f} KiB")
    return ", ".join(texts) or "memory not known"


def accepting(finding: Finding, text: str) -> Iterator[WayOut]:
    """The finding accepted at its part, with a reason that is still to be written."""
    if finding.severity == "error" or not finding.part:
        return
    lines = text.split("\n")
    row = finding.place.line - 1
    top = next((n for n in range(min(row, len(lines) - 1), -1, -1) if lines[n].startswith("[")), None)
    if top is None or finding.part not in lines[top]:
        return
    below = lines[top + 1 :]
    end = next((n for n, line in enumerate(below) if line.startswith("[")), len(below))
    if any(line.lstrip().startswith("accept") for line in below[:end]):
        return
    column = len(line_of(text, top + 1)) + 1
    words = f'\naccept = ["{finding.code}"]\nbecause = ""'
    yield WayOut(f"accept {finding.code} here, with a reason", (Edit(top + 1, column, 0, words),))
