"""Texts of the release build that stay on the flash: what a small chip says seldom takes none of its memory.

Errors and notes are 1 KB of 36. Only what is said when there is no memory stays in it.
"""

from __future__ import annotations

import ast
from collections.abc import Mapping
from functools import lru_cache

from zapato.firmware.bundle import parsed

FILE = "texts"
"""The file beside the modules."""
MODULE = "flash_text"
"""The runtime module that reads it."""
_SHORT = 10
"""Letters of a text that the interpreter keeps as a name, for less than reading it costs."""
_LONGEST = 255
_SAYS = {"note", "fault", "lost"}


def to_flash(sources: Mapping[str, str]) -> tuple[dict[str, str], bytes]:
    """The same modules with the texts that they raise or tell read from the file, and the file's bytes.

    Lines stay as they were, but for one import before them. A text is named by its place: its first byte times 256, plus its length.
    """
    held: dict[str, int] = {}
    changed = {name: _moved(text, held) for name, text in sources.items()}
    return changed, "".join(held).encode("ascii")


def _moved(text: str, held: dict[str, int]) -> str:
    """One module's text."""
    lines = text.split("\n")
    moved = {(node.lineno, node.col_offset): node for node in _seldom(text)}
    for _, node in sorted(moved.items(), reverse=True):
        value = str(node.value)
        if value not in held:
            held[value] = sum(map(len, held)) << 8 | len(value)
        line = lines[node.lineno - 1]
        assert line.isascii(), "columns of a syntax tree are bytes"
        lines[node.lineno - 1] = (
            f"{line[: node.col_offset]}{MODULE}({held[value]}){line[node.end_col_offset :]}"
        )
    return "\n".join([f"from {MODULE} import {MODULE}"] * bool(moved) + lines)


@lru_cache(maxsize=256)
def _seldom(text: str) -> tuple[ast.Constant, ...]:
    """The texts of a module that are worth it, of errors and of what is told."""
    texts: list[ast.Constant] = []
    for node in ast.walk(parsed(text)):
        says = isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.func.attr in _SAYS
        if says or isinstance(node, ast.Raise):
            texts += (inner for inner in ast.walk(node) if isinstance(inner, ast.Constant) and _fits(inner))
    return tuple(texts)


def _fits(node: ast.Constant) -> bool:
    value = node.value
    return (
        isinstance(value, str)
        and _SHORT < len(value) <= _LONGEST
        and value.isascii()
        and node.lineno == node.end_lineno
    )
