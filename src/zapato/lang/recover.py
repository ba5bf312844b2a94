"""Every syntax error of a TOML text, and the text without its broken lines.

The standard reader stops at its first error. Broken statements are blanked one by one,
line numbers staying as they are, until the rest can be read.
"""

from __future__ import annotations

import re
from typing import Any

import tomli

from zapato.record import record
from zapato.regex import regex

MOST = 100
"""After so many syntax errors the file is something else; the rest is not told one by one."""

_AT = regex(r" \(at (?:line (\d+), column (\d+)|end of document)\)$")
_HEADER = regex(r"\s*\[\[?\s*([^\[\]]+?)\s*\]\]?\s*(?:#.*)?$")
_KEY = regex(r"""\s*((?:[\w-]+|"[^"]*"|'[^']*')(?:\s*\.\s*(?:[\w-]+|"[^"]*"|'[^']*'))*)\s*=""")

_WORDS = {
    "Invalid value": ("there is no value after the =", 'texts stand in quotes: name = "text"'),
    "Invalid statement": ("this line is neither [table], nor key = value, nor # comment", ""),
    "Expected '=' after a key in a key/value pair": ("an = is missing after the key", ""),
    "Expected newline or end of document after a statement": (
        "something is left over after the value",
        "one key = value a line; texts stand in quotes",
    ),
    "Expected ']' at the end of a table declaration": ("the ] that ends the table's name is missing", ""),
    "Expected ']]' at the end of an array declaration": ("the ]] that ends the table's name is missing", ""),
    "Illegal character '\\n'": ("the quote that ends the text is missing", ""),
    "Unterminated string": ("the quote that ends the text is missing", ""),
    "Unclosed array": ("the ] that ends the list is missing", ""),
    "Unclosed inline table": ("the } that ends the table is missing", ""),
}


_YAML = regex(r"\A(?:\s*(?:#.*)?\n|---\s*\n)*([A-Za-z_][\w-]*:)(?=\s)")
_YAML_WORDS = (
    "this is YAML, and a device file is TOML",
    '[device] in place of device:, below it name = "…" in place of name: …; zapato new NAME --board BOARD writes one',
)
LONGEST = 8192
"""Characters of a line at the most."""
_LONG = regex(rf"[^\n]{{{LONGEST + 1}}}")
_DIGITS = regex(r"[0-9a-fA-F_]{1000}")
_DEEP = regex(r"(?:[\[{]\s*){100}")
_DOTS = regex(r"(?:[^\s.]{1,40}\s?\.\s?){60}")
TEXTS = regex(
    r'''"""(?:[^\\]|\\.)*?"{3,5}|\'{3}.*?\'{3,5}|"(?:[^"\\\n]|\\.)*"|\'[^\'\n]*\'|#[^\n]*''', re.DOTALL
)
"""Texts and comments: what stands in them nests nothing and is no number."""


@record(frozen=True)
class Problem:
    """One syntax error. `code` is toml-syntax, or name-taken where a part's table stands twice."""

    line: int
    column: int
    width: int
    message: str
    fix: str = ""
    code: str = "toml-syntax"


def recover(text: str) -> tuple[dict[str, Any], str, list[Problem]]:
    """What can be read of `text`: the values, the text with broken lines blanked, the problems."""
    lines = text.split("\n")
    if match := _YAML.search(text):
        row = text[: match.start(1)].count("\n")
        return {}, "", [Problem(row + 1, 1, len(match[1]), *_YAML_WORDS)]
    bare = _bare(text).split("\n")
    huge_lines = [huge(line) or _long(lines[row]) for row, line in enumerate(bare)]
    problems: list[Problem] = [
        _blank_huge(lines, row, message) for row, message in enumerate(huge_lines) if message
    ]
    while len(problems) < MOST:
        try:
            return tomli.loads("\n".join(lines)), "\n".join(lines), problems
        except tomli.TOMLDecodeError as error:
            problems.append(_blank_one(lines, str(error)))
        except (
            RecursionError,
            ValueError,
        ):  # a number of more digits than Python reads stands in a huge line
            break
    if not problems:
        problems.append(Problem(1, 1, 1, "lists or tables nested too deeply to read"))
    return {}, "", problems


def huge(text: str) -> str:
    """What of a text is more than anybody writes, outside its strings and comments; "" where nothing is."""
    if not _many(text):
        return _long(text)
    bare = _bare(text)
    if _DIGITS.search(bare):
        return "the number has more digits than a number can have here"
    if _DEEP.search(bare):
        return "lists or tables nested too deeply to read"
    if _DOTS.search(bare):
        return "the name has more dots than a name can have here"
    return _long(text)


def _bare(text: str) -> str:
    """The text with its strings and comments emptied, its lines where they were."""
    return TEXTS.sub(lambda match: '""' + "\n" * match[0].count("\n"), text) if _many(text) else text


def _many(text: str) -> bool:
    """Whether anything of a text could be more than anybody writes: most files need no second look."""
    return bool(
        _DIGITS.search(text)
        or (text.count("[") + text.count("{") >= 100 and _DEEP.search(text))
        or (text.count(".") >= 60 and _DOTS.search(text))
    )


def _long(text: str) -> str:
    return f"the line is longer than {LONGEST} characters" if _LONG.search(text) else ""


def _blank_huge(lines: list[str], row: int, message: str) -> Problem:
    """Blank a line, or the table that it begins."""
    table = lines[row].lstrip().startswith("[")
    _blank_table(lines, row) if table else lines.__setitem__(row, "")
    return Problem(row + 1, 1, 1, message)


def _blank_one(lines: list[str], error: str) -> Problem:
    """Blank the statement the reader stumbled over and say what is wrong with it."""
    at = _AT.search(error)
    reason = error[: at.start()] if at else error
    row, column = (int(at[1]) - 1, int(at[2])) if at and at[1] else (len(lines) - 1, 1)
    row = min(row, len(lines) - 1)
    if reason.startswith("Cannot "):
        return _twice(lines, row, reason)
    culprit = _culprit(lines, row)
    opened = _opened_above(lines, culprit)
    if opened is not None:
        lines[opened + 1 : culprit + 1] = [""] * (culprit - opened)
        culprit = opened
    if culprit != row:
        row, column = culprit, len(lines[culprit].rstrip()) + 1
        reason = _open_end(lines[row]) or reason
    message, fix = _WORDS.get(reason, (reason[:1].lower() + reason[1:], ""))
    width = max(1, len(lines[row].rstrip()) - column + 1)
    _blank(lines, row)
    return Problem(row + 1, column, width, message, fix)


def _blank(lines: list[str], row: int) -> None:
    """Take a broken line out; a table's name that only lacks its bracket is closed, else its keys go with it."""
    if not lines[row].lstrip().startswith("["):
        lines[row] = ""
        return
    name = re.match(r"\s*\[\[?\s*([\w-]+(?:\s*\.\s*[\w-]+)*)", lines[row])
    if name and "[[" not in lines[row]:
        lines[row] = f"[{name[1]}]"
        return
    _blank_table(lines, row)


def _blank_table(lines: list[str], row: int) -> None:
    end = row + 1
    while end < len(lines) and not _HEADER.match(lines[end]):
        end += 1
    lines[row:end] = [""] * (end - row)


def _opened_above(lines: list[str], row: int) -> int | None:
    """The line that opened the list or table of which `row` is one of the following lines, or None."""
    while row > 0 and not _KEY.match(lines[row]) and not lines[row].lstrip().startswith("["):
        row -= 1
        if _KEY.match(lines[row]) and _open_end(lines[row]):
            return row
    return None


def _open_end(line: str) -> str:
    """What a line leaves open, in the standard reader's words; empty where nothing."""
    if line.count("[") > line.count("]"):
        return "Unclosed array"
    return "Unclosed inline table" if line.count("{") > line.count("}") else ""


def _culprit(lines: list[str], row: int) -> int:
    """The broken line: the one named, or the nearest above that cannot stand alone."""
    for candidate in range(row, -1, -1):
        try:
            tomli.loads(lines[candidate])
        except (tomli.TOMLDecodeError, RecursionError):
            return candidate
    return row


def _twice(lines: list[str], row: int, reason: str) -> Problem:
    """A key or a table that stands twice; the second one goes, a table with all its keys."""
    header = _HEADER.match(lines[row])
    match = header or _KEY.match(lines[row])
    if not match:
        row = _culprit(lines, row)
        lines[row] = ""
        return Problem(row + 1, 1, 1, reason[:1].lower() + reason[1:])
    name = match[1]
    top = 0 if header else max((n for n in range(row) if _HEADER.match(lines[n])), default=0)
    first = next((n for n in range(top, row) if _names(lines[n], name, header is not None)), None)
    where = f"; the first one is at line {first + 1}" if first is not None else ""
    problem = Problem(
        row + 1,
        match.start(1) + 1,
        len(name),
        f"{name} stands here a second time{where}",
        "keep one of the two",
        "name-taken" if header and "." in name else "toml-syntax",
    )
    if header:
        _blank_table(lines, row)
    else:
        lines[row] = ""
    return problem


def _names(line: str, name: str, header: bool) -> bool:
    match = (_HEADER if header else _KEY).match(line)
    return bool(match and match[1] == name)
