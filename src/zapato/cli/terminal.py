"""Text for a terminal or a pipe: colours and folding on a terminal, stable whole lines in a pipe."""

from __future__ import annotations

import os
import re
import sys
import time
from collections.abc import Mapping, Sequence
from typing import IO, TypeVar

import click

from zapato.regex import regex

Row = Mapping[str, object]
T = TypeVar("T")

PATIENCE = 1.0
"""Seconds after which work shows how far it is."""


def is_terminal(stream: IO[str] | None) -> bool:
    """True where somebody looks: a terminal, not a pipe, a file or a closed stream."""
    try:
        return stream is not None and stream.isatty()
    except (ValueError, OSError):
        return False


def plain() -> bool:
    """True where no colour is wanted: NO_COLOR is set, or the terminal has none."""
    return bool(os.environ.get("NO_COLOR")) or os.environ.get("TERM", "") == "dumb"


def styled(text: str, **style: object) -> str:
    """`text` in colour on a terminal, plain in a pipe and where no colour is wanted."""
    return click.style(text, **style) if is_terminal(sys.stdout) and not plain() else text  # type: ignore[arg-type]


_SECRET = regex(r"""\s*[\w."'-]*(?:pas+w|secret)[\w"'-]*\s*=\s*["']+""", re.IGNORECASE)
"""How a line of a file begins that gives a password, also under a name that is nearly one."""


def veiled(line: str) -> str:
    """A line of somebody's file as it may be printed: what is shown ends up in logs, and a password does not belong there."""
    match = _SECRET.match(line)
    return f"{match[0]}{'*' * (len(line) - match.end())}" if match else line


def harmless(text: str) -> str:
    """What came from elsewhere, without what would steer a terminal."""
    return "".join(c if c.isprintable() else "·" for c in text)


SHOWN = 10
"""Names of a list that are shown at the most."""


def some(names: Sequence[str]) -> str:
    """The first of these names, the others counted."""
    return ", ".join(names[:SHOWN]) + (f" and {len(names) - SHOWN} more" if len(names) > SHOWN else "")


APART = 5.0
"""Seconds after which a pipe gets a line of how far it is, and from that line to the next."""


class Meter:
    """How far some work is, on standard error: one line on a terminal, once it takes longer than a second, and one now and then in a pipe."""

    def __init__(self, label: str) -> None:
        self.label, self.begun, self.shown = label, time.monotonic(), ""
        self.looked = is_terminal(sys.stderr) and os.environ.get("TERM") != "dumb"
        self.shown_at = self.begun

    def at(self, share: float, more: str = "") -> None:
        """So much of it is done, from 0 to 1."""
        now = time.monotonic()
        text = harmless(f"{self.label} {share:4.0%}{f' ({more})' if more else ''}{self._left(now, share)}")
        if not self.looked:
            if now - self.shown_at > APART:
                self.shown_at = now
                click.echo(text, err=True)
        elif now - self.begun > PATIENCE and text != self.shown:
            text = text[: _columns() - 1]
            sys.stderr.write("\r" + text.ljust(len(self.shown)))
            sys.stderr.flush()
            self.shown = text

    def _left(self, now: float, share: float) -> str:
        """About how long it goes on, where that can be told by now."""
        passed = now - self.begun
        if passed < 3 or not 0.005 < share < 1:
            return ""
        return f", some {round(passed / share - passed) + 1} s left"

    def done(self) -> None:
        """Take the line away."""
        if self.shown:
            sys.stderr.write("\r" + " " * len(self.shown) + "\r")
            sys.stderr.flush()
            self.shown = ""


def _columns() -> int:
    from shutil import get_terminal_size

    return get_terminal_size().columns


def width() -> int:
    """Columns to write in; in a pipe, more than any line has."""
    return max(20, _columns()) if is_terminal(sys.stdout) else 10_000


def wrapped(lead: str, text: str) -> list[str]:
    """`text` behind `lead`, folded on a terminal with the following lines under the first."""
    import textwrap

    lines = textwrap.wrap(
        text,
        max(20, min(width(), 110 if is_terminal(sys.stdout) else width()) - len(lead)),
        break_long_words=False,
        break_on_hyphens=False,
    )
    head = styled(lead, fg="green") if "way out" in lead else styled(lead, dim=True)
    return [head + lines[0], *(" " * len(lead) + line for line in lines[1:])] if lines else []


def table(rows: Sequence[Row], droppable: str = "") -> str:
    """Rows as aligned columns; on a terminal too narrow for them, the column `droppable` goes."""
    names = list(rows[0]) if rows else []
    texts = [{name: str(row[name]) for name in names} for row in rows]
    long = {text: len(click.unstyle(text)) for row in texts for text in row.values()}
    widths = {name: max(len(name), *(long[row[name]] for row in texts)) for name in names}
    if droppable in names and sum(widths.values()) + 2 * (len(names) - 1) > width():
        names.remove(droppable)
    lines = ["  ".join(name.ljust(widths[name]) for name in names)]
    lines += [
        "  ".join(row[name] + " " * (widths[name] - long[row[name]]) for name in names) for row in texts
    ]
    return "\n".join(line.rstrip() for line in lines)
