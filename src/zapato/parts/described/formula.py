"""How a value follows from the bytes: arithmetic over the fields of an answer, the same at the desk and on the device."""

from __future__ import annotations

import ast
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from zapato.lang.fields import Wrong

_ALLOWED = (
    ast.Expression, ast.BinOp, ast.UnaryOp, ast.Constant, ast.Name, ast.Load, ast.Add, ast.Sub, ast.Mult, ast.Div, ast.FloorDiv, ast.Mod,
    ast.Pow, ast.BitAnd, ast.BitOr, ast.LShift, ast.RShift, ast.USub, ast.IfExp, ast.Compare, ast.Lt, ast.Gt, ast.LtE, ast.GtE, ast.Eq,
)  # fmt: skip
MOST = 60
"""Pieces of one formula at the most."""


@dataclass(frozen=True)
class Formula:
    """A formula: as written, the names that it reads, and how many pieces it has."""

    text: str
    names: frozenset[str]
    pieces: int

    def value(self, fields: Mapping[str, float]) -> float:
        """Its value with these fields. Raises ArithmeticError."""
        found: Any = eval(compile(self.text, "formula", "eval"), {"__builtins__": {}}, dict(fields))
        return found


def read_formula(text: str) -> Formula:
    """The formula that a text writes: numbers, fields, + - * / // % ** & | << >>, comparisons and `a if b else c`. Raises Wrong."""
    try:
        tree = ast.parse(text, mode="eval")
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        raise Wrong(f'"{text[:60]}" is no formula', 'of = "-45 + 175 * t / 65535"') from None
    nodes = list(ast.walk(tree))
    for node in nodes:
        if not isinstance(node, _ALLOWED):
            raise Wrong(
                f"has {type(node).__name__}, which a formula cannot have",
                "numbers, fields, + - * / // % ** & | << >>",
            )
        if isinstance(node, ast.Constant) and (
            isinstance(node.value, bool) or not isinstance(node.value, (int, float))
        ):
            raise Wrong("has something that is no number")
        if isinstance(node, ast.Pow | ast.LShift) and len(text) > 200:
            raise Wrong("is too long")
    if len(nodes) > MOST:
        raise Wrong(f"has {len(nodes)} pieces; {MOST} is the most")
    names = frozenset(node.id for node in nodes if isinstance(node, ast.Name))
    return Formula(ast.unparse(tree), names, len(nodes))
