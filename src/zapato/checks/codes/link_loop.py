"""link-loop: links that set each other off without end."""

from __future__ import annotations

import ast
from collections.abc import Iterator

from zapato.checks.model import Rule, device
from zapato.checks.rings import rings
from zapato.design.links import Command, Link
from zapato.design.model import Design
from zapato.findings import Finding

SHOWN = 6
"""Lines of other links that are told at the most."""
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
    links = {link.number: link for link in design.links if link.when is not None}
    leads: dict[int | Fact, list[int | Fact]] = {n: [*_effects(link)] for n, link in links.items()}
    for number, link in links.items():
        for fact in _triggers(link):
            leads.setdefault(fact, []).append(number)
    for ring in rings(leads):
        numbers = sorted(each for each in ring if isinstance(each, int))
        facts = {fact for number in numbers for fact in _effects(links[number])}
        if any((part, not value) in facts for part, value in facts):
            others = f" (with the links at line {_lines(design, numbers[1:])})" if len(numbers) > 1 else ""
            yield design.finding(
                "link-loop",
                "warning",
                ("link", numbers[0] - 1, "when"),
                f"this link sets itself off again and again{others}",
                why="what it does makes its own condition true once more, with no time between; the device does nothing else.",
                fixes=("a time in the ring: after or held", "a condition that the action does not change"),
            )


def _lines(design: Design, numbers: list[int]) -> str:
    shown = ", ".join(str(design.document.place(("link", n - 1), "key").line) for n in numbers[:SHOWN])
    return shown + (f" and {len(numbers) - SHOWN} more" if len(numbers) > SHOWN else "")


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
