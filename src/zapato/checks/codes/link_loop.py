"""link-loop: links that set each other off without end."""

from __future__ import annotations

import ast
from collections.abc import Iterator

from zapato.checks.model import Rule, device
from zapato.design.links import Command, Link
from zapato.design.model import Design
from zapato.findings import Finding

Fact = tuple[str, bool]
"""A part, and whether it is on."""

_SETS = {"on": (True,), "off": (False,), "toggle": (True, False), "pulse": (True, False), "blink": ()}


def _triggers(link: Link) -> set[Fact]:
    """The facts whose coming true can make the link's condition true."""
    if link.when is None or link.when.tree is None or link.held:
        return set()
    return set(_literals(link.when.tree, True))


def _literals(node: ast.expr, positive: bool) -> Iterator[Fact]:
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
        yield from _literals(node.operand, not positive)
    elif isinstance(node, ast.BoolOp):
        for value in node.values:
            yield from _literals(value, positive)
    elif isinstance(node, ast.Attribute) and node.attr == "on" and isinstance(node.value, ast.Name):
        yield node.value.id, positive


def _effects(link: Link) -> set[Fact]:
    """The facts that the link makes true at once."""
    if link.after:
        return set()
    return {(c.part, value) for c in link.commands if c.part for value in _values(link, c)}


def _values(link: Link, command: Command) -> tuple[bool, ...]:
    """What the command makes of its part; a toggle turns what the link waited for into its opposite."""
    waited = tuple(not value for part, value in _triggers(link) if part == command.part)
    return waited if command.action == "toggle" and waited else _SETS.get(command.action, ())


def _find(design: Design) -> Iterator[Finding]:
    links = [link for link in design.links if link.when is not None]
    leads = {a.number: {b.number for b in links if _effects(a) & _triggers(b)} for a in links}
    for link in links:
        ring = _ring(link.number, leads)
        facts = {fact for each in links if each.number in ring for fact in _effects(each)}
        if ring and link.number == min(ring) and any((part, not value) in facts for part, value in facts):
            numbers = sorted(ring)
            others = f" (with the links at line {_lines(design, numbers[1:])})" if len(numbers) > 1 else ""
            yield design.finding(
                "link-loop",
                "warning",
                ("link", link.number - 1, "when"),
                f"this link sets itself off again and again{others}",
                why="what it does makes its own condition true once more, with no time between; the device does nothing else.",
                fixes=("a time in the ring: after or held", "a condition that the action does not change"),
            )


def _lines(design: Design, numbers: list[int]) -> str:
    return ", ".join(str(design.document.place(("link", n - 1), "key").line) for n in numbers)


def _ring(start: int, leads: dict[int, set[int]]) -> set[int]:
    """The links that can be reached from `start` and lead back to it."""
    ahead = _reached(start, leads)
    return {n for n in ahead if start in _reached(n, leads)} if start in ahead else set()


def _reached(start: int, leads: dict[int, set[int]]) -> set[int]:
    found: set[int] = set()
    waiting = list(leads.get(start, ()))
    while waiting:
        each = waiting.pop()
        if each not in found:
            found.add(each)
            waiting.extend(leads.get(each, ()))
    return found


_PARTS = "[relay.lamp]\npin = 26\n\n"

RULE = Rule(
    code="link-loop",
    family="links",
    severities=("warning",),
    title="links set each other off without end",
    story="""
One link switches the lamp off when it is on, another switches it on when it is off: with no time
between them the device does nothing else, and the relay chatters until it breaks. A blinking lamp
is an action of its own (led.blink), or takes a time: after = "1s".
""",
    failing=device(
        _PARTS
        + '[[link]]\nwhen = "lamp.on"\ndo = "lamp.off"\n\n[[link]]\nwhen = "not lamp.on"\ndo = "lamp.on"'
    ),
    mended=device(
        _PARTS
        + '[[link]]\nwhen = "lamp.on"\nafter = "1s"\ndo = "lamp.off"\n\n[[link]]\nwhen = "not lamp.on"\nafter = "1s"\ndo = "lamp.on"'
    ),
    find=_find,
)
