"""Interrupts of one board, between the edge at a pin and the program's handler."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Generator
from contextlib import contextmanager

from zapato.record import record
from zapato.simulator.clock import Clock


@record(frozen=True)
class Fired:
    """One interrupt that waits for its handler.

    Attributes:
        number: the pin, or what stands for another source.
        level: of the pin when it fired, or None where it is read when the handler runs.
        moment: ms and us when the handler runs, or None where that is only once the program's C code is left.
    """

    number: int
    level: int | None
    moment: tuple[int, int] | None


class Interrupts:
    """What waits for the program's handlers.

    Between two instructions of the program a handler runs at once. While the program is inside C code that takes time
    (a bus, the flash, a collection) a soft handler waits in the scheduler's queue of `depth` places, and what does not
    find a place there is lost (py/scheduler.c, mp_sched_schedule). A hard handler runs all the same, except while
    interrupts are off: then the pin remembers one edge.
    """

    def __init__(self, clock: Clock, depth: int) -> None:
        self.clock, self.depth = clock, depth
        self.waiting: deque[Fired] = deque()
        self.lost = 0
        self.inside, self._off = True, False

    def __bool__(self) -> bool:
        return bool(self.waiting)

    def between_instructions(self, pass_time: Callable[..., object], *given: object) -> None:
        """Time goes by while the program computes, or waits where the port runs handlers. No context manager: it happens at each call of the board."""
        before, self.inside = self.inside, False
        try:
            pass_time(*given)
        finally:
            self.inside = before

    @contextmanager
    def off(self) -> Generator[None]:
        """The port has switched interrupts off."""
        self._off = True
        try:
            yield
        finally:
            self._off = False

    def fire(self, number: int, level: int, hard: bool = False) -> None:
        """An edge came at a pin whose interrupt is armed."""
        if (hard and not self._off) or not self.inside:
            own, clock = divmod(self.clock.exact, 1000), self.clock
            self.waiting.append(
                Fired(number, level, own if own[0] == clock.now else (clock.now, clock.micro))
            )
            return
        late = [interrupt.number for interrupt in self.waiting if interrupt.moment is None]
        if (number in late) if hard else (len(late) >= self.depth):
            self.lost += 1
        else:
            self.waiting.append(Fired(number, None, None))

    def announce(self, number: int) -> None:
        """Another source than a pin has something; each keeps its own queue in its driver."""
        self.waiting.append(Fired(number, None, None))

    def clear(self) -> None:
        """Power-up: nothing waits."""
        self.waiting.clear()
