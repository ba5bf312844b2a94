"""Text for a terminal or a pipe: colours and folding on a terminal, stable whole lines in a pipe."""

from __future__ import annotations

import sys
import textwrap
from collections.abc import Iterator, Mapping, Sequence
from shutil import get_terminal_size
from typing import TypeVar

import click

Row = Mapping[str, object]
T = TypeVar("T")

MANY = 20
"""From so many items on, work shows its progress."""


def styled(text: str, **style: object) -> str:
    """`text` in colour on a terminal, plain in a pipe."""
    return click.style(text, **style) if sys.stdout.isatty() else text  # type: ignore[arg-type]


def progress(items: Sequence[T], label: str) -> Iterator[T]:
    """The items one by one, with a bar on standard error where there are many and somebody looks."""
    if len(items) < MANY or not sys.stderr.isatty():
        yield from items
        return
    with click.progressbar(items, label=label, file=sys.stderr) as bar:
        yield from bar


def width() -> int:
    """Columns to write in; in a pipe, more than any line has."""
    return get_terminal_size().columns if sys.stdout.isatty() else 10_000


def wrapped(lead: str, text: str) -> list[str]:
    """`text` behind `lead`, folded on a terminal with the following lines under the first."""
    found = textwrap.wrap(
        text,
        max(30, min(width(), 110 if sys.stdout.isatty() else width()) - len(lead)),
        break_long_words=False,
        break_on_hyphens=False,
    )
    head = styled(lead, fg="green") if "way out" in lead else styled(lead, dim=True)
    return [head + found[0], *(" " * len(lead) + line for line in found[1:])] if found else []


def table(rows: Sequence[Row], droppable: str = "") -> str:
    """Rows as aligned columns; on a terminal too narrow for them, the column `droppable` goes."""
    names = list(rows[0]) if rows else []
    widths = {name: max(len(name), *(len(str(row[name])) for row in rows)) for name in names}
    if droppable in names and sum(widths.values()) + 2 * (len(names) - 1) > width():
        names.remove(droppable)
    lines = ["  ".join(name.ljust(widths[name]) for name in names)]
    lines += ["  ".join(str(row[name]).ljust(widths[name]) for name in names) for row in rows]
    return "\n".join(line.rstrip() for line in lines)
