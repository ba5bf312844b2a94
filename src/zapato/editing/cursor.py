"""Where in a device file a cursor stands, read line by line, so that half a word and an open quote do not matter."""

from __future__ import annotations

import re
from typing import Any, Literal

from zapato.record import record
from zapato.regex import regex

Where = Literal["header", "key", "value", "text", "comment"]

_HEADER = regex(r"\s*(\[\[?)\s*([\w.\"'-]*)")
_PAIR = regex(r"\s*([\w-]+)\s*=\s?")
_WORD = regex(r"[\w.-]*$")


@record(frozen=True)
class Cursor:
    """A place in a text.

    Attributes:
        where: in a table's header, at a key, at a value, within a text in quotes, or in a comment.
        table: the names of the table it stands in: ("relay", "lamp"), ("link",), or () above the first.
        key: the key whose value it stands in.
        word: what stands before the cursor of the word there.
        whole: the word with what comes after.
        begin: the column, from 1, at which the word begins.
        inline: the key of an inline table whose text it is: "secret" in { secret = "wifi" }.
    """

    where: Where
    table: tuple[str, ...]
    key: str = ""
    word: str = ""
    whole: str = ""
    begin: int = 1
    inline: str = ""


def cursor(text: str, line: int, column: int) -> Cursor:
    """The cursor at this line and column, both from 1."""
    lines = text.split("\n")
    here = lines[line - 1] if 0 < line <= len(lines) else ""
    before = here[: column - 1]
    word = _word(before)
    rest = re.match(r"[\w-]*", here[column - 1 :])
    at: dict[str, Any] = {
        "word": word,
        "whole": word + (rest[0] if rest else ""),
        "begin": column - len(word),
    }
    if head := _HEADER.match(here):
        names = tuple(key.strip("\"'") for key in head[2].split(".") if key)
        return Cursor("header", names, **at)
    table = _table(lines, line)
    key, value = _pair(lines, line, before)
    if not key:
        where: Where = "comment" if before.lstrip().startswith("#") else "key"
        return Cursor(where, table, **at)
    quoted = _open_quote(value)
    if quoted is None:
        where = "comment" if "#" in re.sub(r'"[^"]*"|\'[^\']*\'', "", value) else "value"
        return Cursor(where, table, key, **at)
    inner = re.search(r"([\w-]+)\s*=\s*$", value[: len(value) - len(quoted) - 1])
    return Cursor("text", table, key, inline=inner[1] if inner else "", **at)


def _word(before: str) -> str:
    match = _WORD.search(before)
    return match[0] if match else ""


def _table(lines: list[str], line: int) -> tuple[str, ...]:
    """The table that a line belongs to."""
    for row in range(min(line, len(lines)) - 1, -1, -1):
        head = _HEADER.match(lines[row])
        if head and "=" not in lines[row].split("#")[0].split("]")[0] and not lines[row][:1].isspace():
            return tuple(key.strip("\"'") for key in head[2].split(".") if key)
    return ()


def _pair(lines: list[str], line: int, before: str) -> tuple[str, str]:
    """The key before the cursor, and its value up to the cursor; a list may go over several lines."""
    if match := _PAIR.match(before):
        return match[1], before[match.end() :]
    value = before
    for row in range(line - 2, max(-1, line - 60), -1):
        if _HEADER.match(lines[row]) and not lines[row][:1].isspace():
            break
        value = f"{lines[row]}\n{value}"
        if match := _PAIR.match(lines[row]):
            value = value[match.end() :]
            bare = re.sub(r'"[^"\n]*"|\'[^\'\n]*\'|#[^\n]*', "", value)
            return (match[1], value) if bare.count("[") > bare.count("]") else ("", "")
    return "", ""


def _open_quote(value: str) -> str | None:
    """What stands in a text that is not closed before the cursor; None outside of texts."""
    quote, begin = "", 0
    for at, sign in enumerate(value):
        if not quote and sign in "\"'":
            quote, begin = sign, at + 1
        elif quote and sign == quote and value[at - 1] != "\\":
            quote = ""
        elif not quote and sign == "#":
            end = value.find("\n", at)
            return None if end < 0 else _open_quote(value[end:])
    return value[begin:] if quote else None
