"""The layout of a TOML text: blank lines, spaces around =, comments that stand in a column. Values, comments and order stay."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator
from dataclasses import dataclass

_PAIR = re.compile(r"""^([A-Za-z0-9_-]+|"[^"\\]*"|'[^']*')[ \t]*=[ \t]*(.*)$""")
GAP = 2
"""Spaces before a comment behind a value, at the least."""


@dataclass(frozen=True)
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
        made = "\n".join(_spaced([*_evened(plain.split("\n"))])).strip("\n") + "\n"
        same = tomllib.loads(made) == tomllib.loads(plain) and _comments(made) == _comments(plain)
    except (tomllib.TOMLDecodeError, RecursionError):
        return text
    return made.replace("\n", ends) if same and made.strip() else text


def _evened(lines: list[str]) -> Iterator[tuple[str, bool]]:
    """Each line, evened with its neighbours, and whether it stands within a value over several lines."""
    block: list[_Pair] = []
    state = _Outside
    for line in lines:
        inside = state != _Outside
        after = _after(line, state)
        pair = None if inside or after != _Outside else _pair(line.rstrip())
        if pair:
            block.append(pair)
        else:
            yield from ((each, False) for each in _even(block))
            block = []
            # within a text of three quotes blanks at a line's end belong to it
            yield (line if after[1] or state[1] else line.rstrip()), inside
        state = after
    yield from ((each, False) for each in _even(block))


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


def _pair(line: str) -> _Pair | None:
    found = _PAIR.match(line)
    if not found:
        return None
    value, comment = _split(found[2])
    return _Pair(found[1], value.rstrip(), comment, line.index("=", len(found[1])), len(line) - len(comment))


def _split(rest: str) -> tuple[str, str]:
    """A value, or a whole line, and the comment behind it."""
    quote = ""
    for at, sign in enumerate(rest):
        if quote:
            quote = "" if sign == quote and (quote == "'" or rest[at - 1] != "\\") else quote
        elif sign in "\"'":
            quote = sign
        elif sign == "#":
            return rest[:at], rest[at:]
    return rest, ""


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


_State = tuple[int, str]
"""Brackets that are open, and the three quotes of a text that goes on."""
_Outside: _State = (0, "")


def _after(line: str, state: _State) -> _State:
    """The state after a line."""
    depth, quote = state
    header = state == _Outside and line.lstrip().startswith("[")
    at = 0
    while at < len(line):
        if quote:
            end = _end_of(line, quote, at)
            if end < 0:
                return (depth, quote) if len(quote) == 3 else (depth, "")
            at, quote = end + len(quote), ""
            continue
        sign = line[at]
        if sign == "#" or header:
            break
        if sign in "\"'":
            quote = sign * 3 if line.startswith(sign * 3, at) else sign
            at += len(quote)
            continue
        depth = depth + 1 if sign in "[{" else max(0, depth - 1) if sign in "]}" else depth
        at += 1
    return depth, quote if len(quote) == 3 else ""


def _end_of(line: str, quote: str, at: int) -> int:
    """Where a text that began with this quote ends; -1 where it does not."""
    end = line.find(quote, at)
    while end > 0 and quote[0] == '"' and line[end - 1] == "\\":
        end = line.find(quote, end + 1)
    return end


def _comments(text: str) -> list[str]:
    """Every comment of a text, in order."""
    return [found.rstrip() for line in text.split("\n") if (found := _split(line)[1])]
