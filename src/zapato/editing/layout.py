"""The layout of a TOML text: blank lines, spaces around =, comments that stand in a column. Values, comments and order stay."""

from __future__ import annotations

import re
from collections.abc import Iterator

import tomli

from zapato.lang.recover import TEXTS
from zapato.record import record
from zapato.regex import regex

_PAIR = regex(r"""([\w."-]+)[ \t]*=[ \t]*([^#]*)(#.*)?$""")
GAP = 2
"""Spaces before a comment behind a value, at the least."""


@record(frozen=True)
class _Pair:
    """A key and its value on one line; `equals` and `hash` are where = and the comment stood."""

    key: str
    value: str
    comment: str
    equals: int
    hash: int


def formatted(text: str) -> str:
    """The text in even layout; as it is where it cannot be read, or where anything but its layout would change.

    Before a table there is one blank line, none are doubled, and lines end without blanks. In lines that follow each other the
    signs = stand below each other where the author put them so, and so do the comments behind values.
    """
    ends = "\r\n" if "\r\n" in text else "\n"
    plain = text.replace("\r\n", "\n")
    try:
        made = "\n".join(_spaced([*_evened(plain)])).strip("\n") + "\n"
        same = tomli.loads(made) == tomli.loads(plain) and _comments(made) == _comments(plain)
    except (ValueError, RecursionError):  # a number of more digits than Python reads is a ValueError
        return text
    return made.replace("\n", ends) if same and made.strip() else text


def _evened(text: str) -> Iterator[tuple[str, bool]]:
    """Each line, evened with its neighbours, and whether it stands within a value over several lines."""
    block: list[_Pair] = []
    depth = 0
    for line, bare in zip(text.split("\n"), TEXTS.sub(_masked, text).split("\n"), strict=True):
        inside = depth > 0
        depth += sum(map(bare.count, "[{")) - sum(map(bare.count, "]}"))
        if not inside and not depth and (pair := _pair(line, bare)):
            block.append(pair)
            continue
        yield from ((line, False) for line in _even(block))
        block = []
        yield line[: len(bare.rstrip())], inside
    yield from ((line, False) for line in _even(block))


def _masked(match: re.Match[str]) -> str:
    """A string as quotes, one over several lines as quotes in brackets, a comment as #: as long, and nothing in it means anything."""
    text = match[0]
    if text[0] == "#":
        return ("#" * len(text.rstrip())).ljust(len(text))
    masked = re.sub(r"[^\n]", '"', text)
    return f"[{masked[1:-1]}]" if "\n" in text else masked


def _spaced(lines: list[tuple[str, bool]]) -> list[str]:
    """Blank lines: one before a table and the comments above it, nowhere two."""
    made: list[str] = []
    for line, inside in lines:
        if inside:
            made.append(line)
            continue
        if not line and (not made or not made[-1]):
            continue
        if line.startswith("[") and made:
            at = len(made)
            while at and made[at - 1].startswith("#"):
                at -= 1
            if at and made[at - 1]:
                made.insert(at, "")
        made.append(line)
    return made


def _pair(line: str, bare: str) -> _Pair | None:
    match = _PAIR.match(bare)
    if not match:
        return None
    key, value, comment = (line[slice(*match.span(n))].rstrip() if match[n] else "" for n in (1, 2, 3))
    return _Pair(key, value, comment, bare.index("="), match.end(2))


def _even(block: list[_Pair]) -> list[str]:
    """Pairs that follow each other: their signs = and their comments below each other, where they stood so."""
    aligned = len(block) > 1 and len({pair.equals for pair in block}) == 1
    width = max((len(pair.key) for pair in block), default=0) if aligned else 0
    made = [f"{pair.key.ljust(width)} = {pair.value}" for pair in block]
    behind = [n for n, pair in enumerate(block) if pair.comment]
    column = len(behind) > 1 and len({block[n].hash for n in behind}) == 1
    longest = max((len(made[n]) for n in behind), default=0)
    for n in behind:
        end = max(longest + GAP, block[n].hash) if column else max(len(made[n]) + GAP, block[n].hash)
        made[n] = made[n].ljust(end) + block[n].comment
    return made


def _comments(text: str) -> list[str]:
    """Every comment of a text, in order."""
    return [match[0].rstrip() for match in TEXTS.finditer(text) if match[0][0] == "#"]
