"""Contacts whose level the program counts only after it has stood for a while: what a press that is too short, or too early, comes to."""

from __future__ import annotations

from collections.abc import Mapping

from zapato.parts.simulation import Simulation
from zapato.record import record
from zapato.simulator.clock import Clock
from zapato.simulator.trace import Trace


@record
class _Contact:
    """`level` since `since`, ms; `counted` is the level that the program has, since `counted_at`."""

    level: int | None = None
    since: int = -1_000_000
    counted: int | None = None
    counted_at: int = -1_000_000


class Debounce:
    """Says in the trace which movements of a contact the program cannot count, and why."""

    def __init__(self, clock: Clock, trace: Trace, simulations: Mapping[str, Simulation]) -> None:
        self.clock, self.trace, self.simulations = clock, trace, simulations
        self._contacts: dict[str, _Contact] = {}

    def moved(self, part: str, level: int, finger: bool = False) -> None:
        """Somebody moves the contact of a part; a finger presses it."""
        settle, quiet = self.simulations[part].settles
        now = self.clock.now
        at = self._contacts.setdefault(part, _Contact(counted=1 - level if now else level))
        if level == at.level:
            if finger:
                self._tell(part, "is pressed while it is down: that is one press")
            return
        if level == at.counted and at.level is not None:
            if now - at.since < settle:
                self._tell(
                    part,
                    f"moved back after {now - at.since} ms, which is shorter than its settle of {settle} ms: not counted",
                )
            elif now < at.counted_at + quiet:
                self._tell(part, f"moved back within its quiet of {quiet} ms: not counted")
        at.level, at.since = level, now
        self.clock.at(
            max(now + settle, at.counted_at + quiet if quiet else 0), lambda: self._counted(at, settle)
        )

    def _counted(self, at: _Contact, settle: int) -> None:
        if at.level != at.counted and self.clock.now - at.since >= settle:
            at.counted, at.counted_at = at.level, self.clock.now

    def _tell(self, part: str, words: str) -> None:
        self.trace.log("contact", part, words)
