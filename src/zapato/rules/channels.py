"""channel-taken, channel-absent, channel-ring: a channel that a multiplexer has once, not at all, or that is its own bus."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding
from zapato.parts.bus_chip import chip_of
from zapato.parts.kind import Part
from zapato.parts.segments import upstream

if TYPE_CHECKING:
    from zapato.parts.multiplexer.chip import MultiplexerChip


def _channels(design: Design) -> Iterator[tuple[Part, Part, int]]:
    """Each channel, its multiplexer, its number."""
    for part in design.with_role("channel"):
        multiplexer, number = part.linked.get("multiplexer"), part.values.get("number")
        if multiplexer is not None and number is not None:
            yield part, multiplexer, number


def _chip(multiplexer: Part) -> MultiplexerChip | None:
    from zapato.parts.multiplexer.chip import MultiplexerChip

    return chip_of(multiplexer, MultiplexerChip)


def _taken(design: Design) -> Iterator[Finding]:
    seen: dict[tuple[str, int], Part] = {}
    for part, multiplexer, number in _channels(design):
        other = seen.setdefault((multiplexer.name, number), part)
        if other is not part:
            chip = _chip(multiplexer)
            used = {row[2] for row in _channels(design) if row[1] is multiplexer}
            free = [n for n in range(chip.channels if chip else 0) if n not in used]
            yield design.finding(
                "channel-taken",
                "error",
                (*part.path, "number"),
                f"{part.id} and {other.id} are both channel {number} of {multiplexer.name}",
                why="they are one bus, so chips on them with one address would answer at once.",
                fixes=(
                    f"number = {free[0]}" if free else "",
                    f'bus = "{other.name}" for its chips, and no [{part.id}]',
                ),
            )


def _absent(design: Design) -> Iterator[Finding]:
    for part, multiplexer, number in _channels(design):
        chip = _chip(multiplexer)
        if chip and number >= chip.channels:
            yield design.finding(
                "channel-absent",
                "error",
                (*part.path, "number"),
                f"{multiplexer.name} has no channel {number}: a {chip.name} has {chip.channels}, from 0 to {chip.channels - 1}",
                why=f"a bit of its control register connects each ({chip.source}).",
            )


def _ring(design: Design) -> Iterator[Finding]:
    for part, multiplexer, _ in _channels(design):
        bus = multiplexer.linked.get("bus")
        if bus is not None and (bus is part or part in upstream(bus)):
            yield design.finding(
                "channel-ring",
                "error",
                (*multiplexer.path, "bus"),
                f"{multiplexer.name} is on {bus.name}, which is connected by {multiplexer.name} itself",
                why="a multiplexer must be told on a bus that it does not have to connect first.",
                fixes=tuple(
                    f'bus = "{own.name}"' for own in design.with_role("i2c") if not own.kind.upstream(own)
                ),
            )


_FIRST = """
[i2c.main]
sda = 21
scl = 22

[multiplexer.hall]
chip = "{}"
bus = "main"

[channel.north]
multiplexer = "hall"
number = 0

[channel.south]
multiplexer = "hall"
number = {}
"""

RULES = (
    DesignRule(
        code="channel-taken",
        family="buses",
        severities=("error",),
        title="two channels with one number of one multiplexer",
        story="""
A channel of a multiplexer is one pair of lines. Two tables with the same number would be one bus
under two names, and chips with the same address on it would answer at once. Chips that share the
lines name the same channel as their bus.
""",
        failing=device(_FIRST.format("tca9548a", 0)),
        mended=device(_FIRST.format("tca9548a", 1)),
        find=_taken,
    ),
    DesignRule(
        code="channel-absent",
        family="buses",
        severities=("error",),
        title="the multiplexer has no channel of this number",
        story="""
A TCA9548A has eight channels, a TCA9546A four; they are counted from 0, as the chip's terminals
are: SD0 and SC0 are the lines of channel 0.
""",
        failing=device(_FIRST.format("tca9546a", 4)),
        mended=device(_FIRST.format("tca9546a", 3)),
        find=_absent,
    ),
    DesignRule(
        code="channel-ring",
        family="buses",
        severities=("error",),
        title="a multiplexer is on a bus that it connects itself",
        story="""
A multiplexer is told over its bus which channels to connect. On one of its own channels it could
only be told once that channel is connected. Several multiplexers may follow one another, but the
first one is on a bus of the board.
""",
        failing=device(_FIRST.format("tca9548a", 1).replace('"main"', '"north"')),
        mended=device(_FIRST.format("tca9548a", 1)),
        find=_ring,
    ),
)
