"""link-never: a condition that can never come true, or is always true."""

from __future__ import annotations

import ast
from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.design.scope import HOURS
from zapato.findings import Finding
from zapato.lang.expressions import Expression

_SENSOR = '[sensor.cabinet]\nchip = "dht22"\npin = 27\n\n[relay.heater]\npin = 26\n\n'


def _find(design: Design) -> Iterator[Finding]:
    for link in design.links:
        for key, expression in (("when", link.when), ("if", link.condition)):
            if expression and expression.tree is not None and not expression.mistakes:
                for message, why in _reasons(design, expression):
                    yield design.finding(
                        "link-never", "warning", ("link", link.number - 1, key), message, why=why
                    )


def _reasons(design: Design, expression: Expression) -> Iterator[tuple[str, str]]:
    if not expression.reads and any(name in HOURS for name, _ in expression.calls):
        return  # the time of day changes by itself
    if not expression.reads:
        yield (
            "no part, time or other device stands in the condition, so its value never changes",
            "a link acts when its condition becomes true.",
        )
        return
    assert expression.tree is not None
    for node in _all_of(expression.tree):
        if isinstance(node, ast.Compare) and (reason := _out_of_range(design, node)):
            yield reason
    yield from _excluded(design, expression.tree)


def _all_of(node: ast.expr) -> Iterator[ast.expr]:
    """The conditions that must all hold."""
    if isinstance(node, ast.BoolOp) and isinstance(node.op, ast.And):
        for value in node.values:
            yield from _all_of(value)
    else:
        yield node


def _out_of_range(design: Design, node: ast.Compare) -> tuple[str, str] | None:
    left, right = node.left, node.comparators[0]
    limit = _number(right)
    if not (isinstance(left, ast.Attribute) and isinstance(left.value, ast.Name)) or limit is None:
        return None
    part = design.parts[left.value.id]
    known = part.properties.get(left.attr)
    if known is None:
        return None
    low, high = known.low, known.high
    above = isinstance(node.ops[0], ast.Gt) and high is not None and limit >= high
    above |= isinstance(node.ops[0], ast.GtE) and high is not None and limit > high
    below = isinstance(node.ops[0], ast.Lt) and low is not None and limit <= low
    below |= isinstance(node.ops[0], ast.LtE) and low is not None and limit < low
    if not (above or below):
        return None
    message = f"{ast.unparse(node)} can never become true"
    return message, f"{part.name}.{left.attr} is {known.bounds} {known.unit}".strip() + "."


def _number(node: ast.expr) -> float | None:
    sign = 1
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub):
        sign, node = -1, node.operand
    if (
        isinstance(node, ast.Constant)
        and isinstance(node.value, (int, float))
        and not isinstance(node.value, bool)
    ):
        return sign * node.value
    return None


def _excluded(design: Design, tree: ast.expr) -> Iterator[tuple[str, str]]:
    """Two relays that exclude each other, both asked to be on."""
    on = [
        n.value.id
        for n in _all_of(tree)
        if isinstance(n, ast.Attribute) and n.attr == "on" and isinstance(n.value, ast.Name)
    ]
    for first in on:
        for second in on:
            if second in design.parts[first].values.get("excludes", ()):
                yield f"{first} and {second} are never on together", f"{first} excludes {second}."


RULE = DesignRule(
    code="link-never",
    family="links",
    severities=("warning",),
    title="the condition can never come true",
    story="""
The link stands there and does nothing: it waits for a value that the sensor cannot give, for two
relays that exclude each other to be on together, or for something that never changes. Mostly the
scale is another one than was thought (0 to 100, not 0 to 255).
""",
    failing=device(_SENSOR + '[[link]]\nwhen = "cabinet.humidity > 140"\ndo = "heater.off"'),
    mended=device(_SENSOR + '[[link]]\nwhen = "cabinet.humidity > 40"\ndo = "heater.off"'),
    find=_find,
)
