"""How a value follows from the bytes: arithmetic over the fields of an answer, the same at the desk and on the device."""

from __future__ import annotations

import ast
from collections.abc import Mapping
from functools import lru_cache
from types import CodeType
from typing import Any

from zapato.lang.fields import Wrong
from zapato.record import record

_ALLOWED = (
    ast.Expression, ast.BinOp, ast.UnaryOp, ast.Constant, ast.Name, ast.Load, ast.Add, ast.Sub, ast.Mult, ast.Div, ast.FloorDiv, ast.Mod,
    ast.Pow, ast.BitAnd, ast.BitOr, ast.LShift, ast.RShift, ast.USub, ast.IfExp, ast.Compare, ast.Lt, ast.Gt, ast.LtE, ast.GtE, ast.Eq,
    ast.NotEq, ast.BoolOp, ast.And, ast.Or,
)  # fmt: skip
MOST_BITS = 64
"""The largest exponent, and the most bits that a shift to the left may make."""
MOST = 100
"""Pieces of one formula at the most."""


@record(frozen=True)
class Formula:
    """A formula: as written, the names that it reads, and how many pieces it has."""

    text: str
    names: frozenset[str]
    pieces: int

    def value(self, fields: Mapping[str, float]) -> float:
        """Its value with these fields. Raises ArithmeticError."""
        result: Any = eval(
            _code(self.text), {"__builtins__": {}, "_power": _power, "_shift": _shift}, dict(fields)
        )
        return result


def _power(base: float, exponent: float) -> float:
    """What a hostile formula would make as large as the memory is refused."""
    if abs(exponent) > MOST_BITS or abs(base) > 1 << 32:
        raise OverflowError(f"a power with the exponent {exponent}")
    return base**exponent


def _shift(number: int, bits: int) -> int:
    if not 0 <= bits <= MOST_BITS or abs(number) > 1 << MOST_BITS:
        raise OverflowError(f"a shift by {bits} bits")
    return number << bits


class _Guarded(ast.NodeTransformer):
    """Powers and shifts to the left go through functions that know a bound."""

    def visit_BinOp(self, node: ast.BinOp) -> ast.AST:
        self.generic_visit(node)
        names: dict[type[ast.operator], str] = {ast.Pow: "_power", ast.LShift: "_shift"}
        name = names.get(type(node.op))
        return ast.Call(ast.Name(name, ast.Load()), [node.left, node.right], []) if name else node


@lru_cache(maxsize=512)
def _code(text: str) -> CodeType:
    tree = ast.fix_missing_locations(_Guarded().visit(ast.parse(text, mode="eval")))
    return compile(tree, "formula", "eval")


def read_formula(text: str) -> Formula:
    """The formula that a text writes: numbers, fields, + - * / // % ** & | << >>, comparisons, `and`, `or` and `a if b else c`. Raises Wrong."""
    try:
        tree = ast.parse(text, mode="eval")
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        raise Wrong(f'"{text[:60]}" is no formula', 'of = "-45 + 175 * t / 65535"') from None
    nodes = list(ast.walk(tree))
    for node in nodes:
        if not isinstance(node, _ALLOWED):
            raise Wrong(
                f"has {type(node).__name__}, which a formula cannot have",
                "numbers, fields, + - * / // % ** & | << >>, comparisons, and, or",
            )
        if isinstance(node, ast.Constant) and (
            isinstance(node.value, bool) or not isinstance(node.value, (int, float))
        ):
            raise Wrong("has something that is no number")
    if len(nodes) > MOST:
        raise Wrong(f"has {len(nodes)} pieces; {MOST} is the most")
    names = frozenset(node.id for node in nodes if isinstance(node, ast.Name))
    return Formula(ast.unparse(tree), names, len(nodes))
