"""Link expressions: a subset of Python's grammar, checked for types and units, never evaluated here.

`compile_expression` reads a text such as "door.closed and cabinet.temperature < 55" against a
scope that knows the parts, and gives back code for the device together with what it reads.
Every mistake of the text is reported, each with its position.

While a value is unknown, conditions that use it are false. A silent device's values are unknown: no word of the language is
needed for it, and no old value is acted on for days. Rehearsals run the code of expectations on the host; it comes from the checker's
tree, never from the text.
"""

from __future__ import annotations

import ast
import re
import warnings
from collections.abc import Callable, Mapping
from dataclasses import field, replace
from functools import lru_cache
from typing import Protocol

from zapato.lang.hours import HoursError
from zapato.record import record
from zapato.regex import regex

_ARITHMETIC: Mapping[type[ast.AST], str] = {ast.Add: "+", ast.Sub: "-", ast.Mult: "*", ast.Div: "/"}
_COMPARE: Mapping[type[ast.AST], str] = {
    ast.Lt: "<",
    ast.LtE: "<=",
    ast.Gt: ">",
    ast.GtE: ">=",
    ast.Eq: "==",
    ast.NotEq: "!=",
}
_FUNCTIONS = {"min": (2, 9), "max": (2, 9), "abs": (1, 1), "round": (1, 2)}
KNOWN = "known"
"""The function that tells whether a property has a value yet."""
LONGEST = 1000
"""Characters of an expression at the most."""
_DEVICE = regex(r"""'[^']*'|"[^"]*"|(?<![\w.])[a-z][a-z0-9-]*(?=\.[A-Za-z_]\w*\.[A-Za-z_])""")
"""A text in quotes, or the name of a device: the first of three names, and it may have hyphens."""


@record(eq=False)
class Mistake:
    """One mistake in an expression: how many characters into the text, what, and the ways out."""

    offset: int
    message: str
    fixes: tuple[str, ...] = ()
    code: str = "link-type"
    width: int = 0


class NotThere(Exception):
    """Raised by a scope for a name it does not know."""

    def __init__(self, message: str, fixes: tuple[str, ...] = (), code: str = "link-unknown") -> None:
        super().__init__(message)
        self.message, self.fixes, self.code = message, fixes, code


@record(eq=False)
class Read:
    """A property as expressions see it: its type, unit, device code, and whether it may be unknown."""

    type: str
    unit: str
    code: str
    unknown: bool


@record(eq=False)
class Function:
    """A function of texts that a scope adds.

    Attributes:
        least, most: how many texts it takes.
        code: what calls it.
        type: what it gives.
        argument: device code of one text that stands in the expression itself; raises HoursError.
        guard: device code that is None while the function knows no answer.
    """

    least: int
    most: int
    code: str
    type: str = "boolean"
    argument: Callable[[str], str] | None = None
    guard: str = ""


class Scope(Protocol):
    """What an expression may read."""

    def read(self, part: str, name: str) -> Read:
        """The property `part.name`. Raises NotThere."""
        ...

    def remote(self, device: str, part: str, name: str) -> Read:
        """The property of another device. Raises NotThere."""
        ...

    @property
    def functions(self) -> Mapping[str, Function]:
        """Functions beyond min, max, abs and round."""
        ...


@record(eq=False)
class ExpressionValue:
    """The type ("boolean", "number", "text" or "?"), unit and device code of a part of an expression."""

    type: str
    code: str
    unit: str = ""
    constant: object = None


@record
class Expression:
    """A compiled expression.

    Attributes:
        text: as written.
        value: type, unit and code of the whole.
        reads: the properties it reads, as (part, property), in order of appearance.
        guards: device code of the properties that may be unknown.
        mistakes: what is wrong; the code is of no use where there are any.
        tree: the syntax tree, for rules that reason about it.
        calls: the functions of the scope that it calls, with their arguments' code.
    """

    text: str
    value: ExpressionValue = field(default_factory=lambda: ExpressionValue("?", "None"))
    reads: list[tuple[str, str]] = field(default_factory=list[tuple[str, str]])
    guards: list[str] = field(default_factory=list[str])
    mistakes: list[Mistake] = field(default_factory=list[Mistake])
    tree: ast.expr | None = None
    calls: list[tuple[str, tuple[str, ...]]] = field(default_factory=list[tuple[str, tuple[str, ...]]])

    @property
    def code(self) -> str:
        """Device code; a condition is false while anything it reads is still unknown."""
        if not self.guards:
            return self.value.code
        return " and ".join([*(f"{guard} is not None" for guard in self.guards), f"({self.value.code})"])


@lru_cache(maxsize=1024)
def parse(text: str, mode: str = "eval") -> tuple[ast.AST | None, tuple[Mistake, ...]]:
    """The syntax tree of `text`, or what keeps it from being read. Devices of a family have the same texts."""
    if len(text) > LONGEST:
        return None, (Mistake(0, f"longer than {LONGEST} characters"),)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # the parser's own advice is for people who write Python
            return ast.parse(_DEVICE.sub(_without_hyphens, text.strip()), mode=mode), ()
    except SyntaxError as error:
        return None, (Mistake(_syntax_offset(text, error), _syntax_words(text)),)
    except (ValueError, RecursionError, MemoryError):
        return None, (Mistake(0, "cannot be read as an expression"),)


def _without_hyphens(match: re.Match[str]) -> str:
    """Python's grammar has none in a name, and no device's name has an underscore: one stands for the other."""
    return match[0] if match[0][0] in "'\"" else match[0].replace("-", "_")


def _syntax_offset(text: str, error: SyntaxError) -> int:
    return min(max((error.offset or 1) - 1, 0), max(len(text) - 1, 0))


def _syntax_words(text: str) -> str:
    if match := re.search(r"\w\(\s*(?:[^()]*,\s*)?(\d+(?:\.\d+)?\s*(?:ms|s|min|h|d))\s*\)", text):
        return f"not an expression: in brackets a time stands in single quotes, '{match[1]}'"
    if re.search(r"\b\d+(?:\.\d+)?\s*(?:ms|s|min|h|d)\b", text):
        return "a time is not a value here; in a condition it belongs to held, after or for, in an action it is a text: blink('2s')"
    if re.search(r"(?<!')\b\d{1,2}:\d\d\b", text):
        return "not an expression: a time of day stands in quotes, between('22:00', '06:00')"
    if ";" in text or "\n" in text.strip():
        return "not one expression: write a link for each event"
    if "&&" in text or "||" in text or "!" in text.replace("!=", ""):
        return "not an expression: write and, or, not in words"
    if "=" in text.replace("==", "").replace("<=", "").replace(">=", "").replace("!=", ""):
        return "not an expression: two values are compared with =="
    return "not an expression that can be read"


def compile_expression(text: str, scope: Scope) -> Expression:
    """Type-check `text` against `scope` and turn it into device code."""
    result = Expression(text)
    tree, mistakes = parse(text)
    if not isinstance(tree, ast.Expression):
        result.mistakes.extend(replace(mistake) for mistake in mistakes)
        return result
    result.tree = tree.body
    result.value = compile_node(tree.body, text, scope, result)
    return result


def compile_node(node: ast.expr, text: str, scope: Scope, into: Expression) -> ExpressionValue:
    """The value of one node; reads, guards and mistakes go into `into`."""
    try:
        return _Compiler(text, scope, into).value(node)
    except RecursionError:
        into.mistakes.append(Mistake(0, "nested too deeply"))
        return ExpressionValue("?", "None")


def offset_of(node: ast.AST, text: str) -> int:
    """How many characters into `text` the node begins (the tree counts bytes)."""
    lead = len(text) - len(text.lstrip())
    start: int = getattr(node, "col_offset", 0)
    return lead + len(text.strip().encode()[:start].decode(errors="ignore"))


def width_of(node: ast.AST) -> int:
    """How many bytes wide the node is, where it stands on one line; else 0."""
    end: int = getattr(node, "end_col_offset", 0) or 0
    start: int = getattr(node, "col_offset", 0)
    return max(0, end - start) if getattr(node, "lineno", 0) == getattr(node, "end_lineno", 0) else 0


def names_of(node: ast.expr) -> list[str]:
    """The names of `device.part.property`; none where it is something else."""
    names: list[str] = []
    while isinstance(node, ast.Attribute):
        names.append(node.attr)
        node = node.value
    return [*names, node.id][::-1] if isinstance(node, ast.Name) else []


class _Compiler:
    def __init__(self, text: str, scope: Scope, into: Expression) -> None:
        self.text, self.scope, self.into = text, scope, into

    def value(self, node: ast.expr) -> ExpressionValue:
        form = _FORMS.get(type(node))
        if form is None:
            return self.wrong(
                node,
                "expressions have names, numbers, texts, comparisons, and/or/not, + - * / and min max abs round known",
            )
        return form(self, node)

    def wrong(self, node: ast.AST, message: str, *fixes: str, code: str = "link-type") -> ExpressionValue:
        self.into.mistakes.append(Mistake(offset_of(node, self.text), message, fixes, code, width_of(node)))
        return ExpressionValue("?", "None")

    def constant(self, node: ast.Constant) -> ExpressionValue:
        if isinstance(node.value, bool):
            return ExpressionValue("boolean", repr(node.value), constant=node.value)
        if isinstance(node.value, (int, float)) and abs(node.value) < 1e12:
            return ExpressionValue("number", repr(node.value), constant=node.value)
        if isinstance(node.value, str):
            return ExpressionValue("text", repr(node.value), constant=node.value)
        return self.wrong(node, "not a number, text, true or false")

    def name(self, node: ast.Name) -> ExpressionValue:
        if node.id in ("true", "false"):
            return ExpressionValue("boolean", node.id.capitalize(), constant=node.id == "true")
        try:
            self.scope.read(node.id, "")
        except NotThere as unknown:
            return self.wrong(node, unknown.message, *unknown.fixes, code="link-unknown")
        return self.wrong(node, f"{node.id} alone has no value", code="link-unknown")

    def attribute(self, node: ast.Attribute) -> ExpressionValue:
        path = names_of(node)
        if not 2 <= len(path) <= 3:
            return self.wrong(node, "a property is written part.property")
        device = path[0].replace("_", "-") if len(path) == 3 else ""
        try:
            known = self.scope.remote(device, *path[1:]) if device else self.scope.read(*path)
        except NotThere as unknown:
            return self.wrong(node, unknown.message, *unknown.fixes, code=unknown.code)
        self.into.reads.append((f"{device}.{path[1]}" if device else path[0], path[-1]))
        if known.unknown and known.code not in self.into.guards:
            self.into.guards.append(known.code)
        return ExpressionValue(known.type, known.code, known.unit)

    def expect(self, node: ast.expr, type: str, words: str) -> ExpressionValue:
        value = self.value(node)
        if value.type not in (type, "?"):
            return self.wrong(node, f"{words}, and {ast.unparse(node)} is a {value.type}")
        return value

    def logic(self, node: ast.BoolOp) -> ExpressionValue:
        word = "and" if isinstance(node.op, ast.And) else "or"
        values = [
            self.expect(operand, "boolean", f"{word} joins things that are true or false")
            for operand in node.values
        ]
        return ExpressionValue("boolean", "(" + f" {word} ".join(v.code for v in values) + ")")

    def unary(self, node: ast.UnaryOp) -> ExpressionValue:
        if isinstance(node.op, ast.Not):
            return ExpressionValue(
                "boolean", f"(not {self.expect(node.operand, 'boolean', 'not takes true or false').code})"
            )
        if isinstance(node.op, ast.Invert):
            return self.wrong(node, "~ is not part of expressions")
        value = self.expect(node.operand, "number", "a sign goes before a number")
        sign = "-" if isinstance(node.op, ast.USub) else "+"
        constant = (
            -value.constant if sign == "-" and isinstance(value.constant, (int, float)) else value.constant
        )
        return ExpressionValue("number", f"({sign}{value.code})", value.unit, constant)

    def arithmetic(self, node: ast.BinOp) -> ExpressionValue:
        sign = _ARITHMETIC.get(type(node.op))
        if sign is None:
            return self.wrong(node, "arithmetic has + - * / only")
        left = self.expect(node.left, "number", f"{sign} takes numbers")
        right = self.expect(node.right, "number", f"{sign} takes numbers")
        if sign in "+-":
            self.same_unit(node, left, right)
        if sign == "/" and right.constant == 0:
            return self.wrong(node, "division by zero")
        unit = left.unit or right.unit if sign in "+-" or not (left.unit and right.unit) else ""
        return ExpressionValue("number", f"({left.code} {sign} {right.code})", unit)

    def same_unit(self, node: ast.expr, left: ExpressionValue, right: ExpressionValue) -> None:
        if left.unit and right.unit and left.unit != right.unit:
            self.wrong(node, f"{left.unit} and {right.unit} are different quantities")

    def compare(self, node: ast.Compare) -> ExpressionValue:
        if len(node.ops) != 1:
            return self.wrong(node, "one comparison at a time", "join two with and")
        sign = _COMPARE.get(type(node.ops[0]))
        if sign is None:
            return self.wrong(node, "comparisons are < <= > >= == !=")
        left, right = self.value(node.left), self.value(node.comparators[0])
        if "?" in (left.type, right.type):
            return ExpressionValue("boolean", "False")
        if left.type != right.type:
            return self.wrong(
                node, f"a {left.type} is compared with a {right.type}", *_comparison_fix(node, left)
            )
        if left.type != "number" and sign not in ("==", "!="):
            return self.wrong(node, f"{sign} compares numbers, not a {left.type}")
        self.same_unit(node, left, right)
        return ExpressionValue("boolean", f"({left.code} {sign} {right.code})")

    def call(self, node: ast.Call) -> ExpressionValue:
        name = node.func.id if isinstance(node.func, ast.Name) else ""
        if own := self.scope.functions.get(name):
            return self.own_call(name, own, node)
        if name == KNOWN:
            return self.known(node)
        if name not in _FUNCTIONS or node.keywords:
            names = (*_FUNCTIONS, KNOWN, *self.scope.functions)
            return self.wrong(node, f"functions are {', '.join(names)}")
        least, most = _FUNCTIONS[name]
        if not least <= len(node.args) <= most:
            return self.wrong(
                node,
                f"{name} takes {least} to {most} numbers" if least < most else f"{name} takes {least} number",
            )
        values = [self.expect(argument, "number", f"{name} takes numbers") for argument in node.args]
        return ExpressionValue("number", f"{name}({', '.join(v.code for v in values)})", values[0].unit)

    def known(self, node: ast.Call) -> ExpressionValue:
        """known(part.property): whether it has a value by now; reading it this way guards nothing."""
        only = node.args[0] if len(node.args) == 1 and not node.keywords else None
        if not isinstance(only, ast.Attribute):
            return self.wrong(node, f"{KNOWN} takes one property: {KNOWN}(cabinet.temperature)")
        before = list(self.into.guards)
        value = self.value(only)
        self.into.guards[:] = before
        return ExpressionValue("boolean", f"({value.code} is not None)")

    def own_call(self, name: str, own: Function, node: ast.Call) -> ExpressionValue:
        if not own.least <= len(node.args) <= own.most or node.keywords:
            count = f"{own.least} to {own.most}" if own.least < own.most else str(own.least)
            return self.wrong(node, f"{name} takes {count} text{'s' * (own.most > 1)}")
        codes = [self.own_argument(name, own, argument) for argument in node.args]
        self.into.calls.append((name, tuple(codes)))
        if own.guard and own.guard not in self.into.guards:
            self.into.guards.append(own.guard)
        return ExpressionValue(own.type, f"{own.code}({', '.join(codes)})")

    def own_argument(self, name: str, own: Function, node: ast.expr) -> str:
        value = self.expect(node, "text", f"{name} takes texts")
        if own.argument is None or value.type == "?":
            return value.code
        if not isinstance(value.constant, str):
            return self.wrong(node, f"{name} takes texts in quotes").code
        try:
            return own.argument(value.constant)
        except HoursError as error:
            return self.wrong(node, error.message, *filter(None, (error.fix,))).code


_FORMS: Mapping[type[ast.AST], Callable[..., ExpressionValue]] = {
    ast.Constant: _Compiler.constant,
    ast.Name: _Compiler.name,
    ast.Attribute: _Compiler.attribute,
    ast.BoolOp: _Compiler.logic,
    ast.UnaryOp: _Compiler.unary,
    ast.BinOp: _Compiler.arithmetic,
    ast.Compare: _Compiler.compare,
    ast.Call: _Compiler.call,
}
"""How each node of an expression is read."""


def _comparison_fix(node: ast.Compare, left: ExpressionValue) -> tuple[str, ...]:
    right = node.comparators[0]
    if left.type == "number" and isinstance(right, ast.Constant) and isinstance(right.value, str):
        digits = "".join(c for c in right.value if c.isdigit() or c in ".-")
        return (f"a number stands without quotes: {digits}",) if digits else ()
    return ()
