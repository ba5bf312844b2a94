"""Where a command stands in `zapato --help`."""

from __future__ import annotations

from typing import Literal

from zapato.record import record

Step = Literal["Start", "Check", "Look", "Rehearse", "Put on the board", "Follow"]
STEPS: tuple[Step, ...] = ("Start", "Check", "Look", "Rehearse", "Put on the board", "Follow")
"""The groups of commands, in the order of the work."""


@record(frozen=True)
class About:
    """The step of the work that a command belongs to, what it does in a few words, and a call of it as an example."""

    step: Step
    short: str
    example: str
