"""link-loop: links that set each other off without end."""

from __future__ import annotations

import ast
from collections.abc import Iterator, Mapping, Sequence

from zapato.checks.result import CheckResult
from zapato.checks.rings import rings
from zapato.checks.rule import SiteRule, device
from zapato.design.design import Design
from zapato.design.links import Command, Link
from zapato.findings import Finding
from zapato.lang.expressions import names_of
from zapato.lang.site import Site
from zapato.record import record

SHOWN = 6
"""Lines of other links that are told at the most."""
Fact = tuple[str, str, bool]
"""A device ("" for the one itself), a part of it, and whether it is on."""
Place = tuple[str, int]
"""A device and the number of one of its links."""

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
    elif isinstance(node, ast.Attribute) and node.attr == "on":
        *device, part, _ = names_of(node) or ("", "", "", "")
        if part and len(device) < 2:
            yield device[0].replace("_", "-") if device else "", part, positive


def _effects(link: Link) -> set[Fact]:
    """The facts that the link makes true at once."""
    if link.after:
        return set()
    return {("", c.part, value) for c in link.commands if c.part for value in _values(link, c)}


def _values(link: Link, command: Command) -> tuple[bool, ...]:
    """What the command makes of its part; a toggle turns what the link waited for into its opposite."""
    waited = tuple(
        not value for device, part, value in _triggers(link) if not device and part == command.part
    )
    return waited if command.action == "toggle" and waited else _SETS.get(command.action, ())


@record
class LinkFacts:
    """What a link waits for, and what it makes true."""

    triggers: set[Fact]
    effects: set[Fact]

    def of(self, device: str) -> LinkFacts:
        """The same, each fact with its device."""
        whole = (
            {(d or device, part, value) for d, part, value in facts}
            for facts in (self.triggers, self.effects)
        )
        return LinkFacts(*whole)


def _rows(design: Design) -> dict[int, LinkFacts]:
    """The links that a condition starts, by number."""
    return {
        link.number: LinkFacts(_triggers(link), _effects(link))
        for link in design.links
        if link.when is not None
    }


def _hearing(design: Design) -> dict[int, LinkFacts] | None:
    """A circle over several devices goes only through those that hear others."""
    return _rows(design) if design.heard else None


def _circles(links: Mapping[Place, LinkFacts]) -> Iterator[list[Place]]:
    """Links, each by its device and number, that set each other off, and switch something both ways while they do."""
    leads: dict[Place | Fact, list[Place | Fact]] = {place: [*row.effects] for place, row in links.items()}
    for place, row in links.items():
        for fact in row.triggers:
            leads.setdefault(fact, []).append(place)
    for ring in rings(leads):
        places = sorted(link for link in links if link in ring)
        facts = {fact for place in places for fact in links[place].effects}
        if any((device, part, not value) in facts for device, part, value in facts):
            yield places


def _find(design: Design) -> Iterator[Finding]:
    for places in _circles({("", number): row for number, row in _rows(design).items()}):
        numbers = [number for _, number in places]
        others = (
            f" (with the link{'s' * (len(numbers) > 2)} at line {_lines(design, numbers[1:])})"
            if len(numbers) > 1
            else ""
        )
        yield design.finding(
            "link-loop",
            "warning",
            ("link", numbers[0] - 1, "when"),
            f"this link sets itself off again and again{others}",
            why="what it does makes its own condition true once more, with no time between; the device does nothing else.",
            fixes=_FIXES,
        )


def _compare(site: Site, devices: Sequence[CheckResult]) -> Iterator[Finding]:
    """Circles that go over more than one device."""
    named = {device.device: device for device in devices if device.data.get("link-loop")}
    links = {
        (name, number): row.of(name)
        for name, result in named.items()
        for number, row in result.data["link-loop"].items()
    }
    for places in _circles(links):
        if len({device for device, _ in places}) < 2:
            continue  # the device's own check tells
        (device, number), *rest = places
        others = ", ".join(f"{device} line {_line(named[device].design, n)}" for device, n in rest[:SHOWN])
        more = f" and {len(rest) - SHOWN} more" if len(rest) > SHOWN else ""
        yield named[device].design.finding(
            "link-loop",
            "warning",
            ("link", number - 1, "when"),
            f"this link sets itself off again and again, with those of {others}{more}",
            why="each device answers the other's answer over the broker, without end and as fast as the network is.",
            fixes=_FIXES,
        )


_FIXES = ("a time in the ring: after or held", "a condition that the action does not change")


def _line(design: Design, number: int) -> int:
    return design.document.place(("link", number - 1), "key").line


def _lines(design: Design, numbers: list[int]) -> str:
    shown = ", ".join(str(_line(design, number)) for number in numbers[:SHOWN])
    return shown + (f" and {len(numbers) - SHOWN} more" if len(numbers) > SHOWN else "")


_PARTS = "[relay.lamp]\npin = 26\n\n"

RULE = SiteRule(
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
    compare=_compare,
    data=_hearing,
)
