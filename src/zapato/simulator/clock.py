"""Virtual time: a queue of what is to happen, and a now that jumps from one to the next.

Edges have their microsecond: what happens within a millisecond sets the clock's `micro`, and the program is woken at each.
"""

from __future__ import annotations

import heapq
from collections.abc import Callable

Call = Callable[[], object]


class End(Exception):
    """The rehearsal is over."""


class Clock:
    """The time of one stage, in ms since the rehearsal began; `micro` is us beyond it."""

    def __init__(self) -> None:
        self.now, self.micro = 0, 0
        self.exact = 0
        """us of the last event that said its own moment, however late the program gets to it."""
        self._queue: list[tuple[int, int, Call]] = []
        self._count = 0
        self.watchers: list[Call] = []

    def at(self, when: int, call: Call) -> None:
        """Do `call` at this moment."""
        self._count += 1
        heapq.heappush(self._queue, (when, self._count, call))

    def after(self, ms: int, call: Call) -> None:
        """Do `call` in so many ms."""
        self.at(self.now + ms, call)

    def reach(self, moment: int) -> None:
        """What happens now happens at this moment, us; at most within the ms that has begun."""
        self.exact = moment
        self.micro = max(self.micro, min(moment - self.now * 1000, 999))

    def go(self, limit: int, ready: Callable[[], bool] | None = None) -> bool:
        """Let the world go on until `limit`, or until an event makes ready() true; True where one did."""
        self._watch()
        if ready and ready():
            return True
        while self._queue and self._queue[0][0] <= limit:
            when, _, call = heapq.heappop(self._queue)
            if when > self.now:
                self.now, self.micro = when, 0
            call()
            self._watch()
            if ready and ready():
                return True
        if limit > self.now:
            self.now, self.micro = limit, 0
        return False

    def busy(self, us: int) -> None:
        """The program works for so many us; the world goes on meanwhile."""
        self.micro += us
        if self.micro >= 1000:
            ms, rest = divmod(self.micro, 1000)
            self.go(self.now + ms)
            self.micro = rest

    def within(self, us: int) -> bool:
        """Let so many us of the program's own instructions go by if that stays in this ms, so that nothing can happen meanwhile; whether it did."""
        micro = self.micro + us
        if micro >= 1000:
            return False
        self.micro = micro
        return True

    def _watch(self) -> None:
        for watcher in self.watchers:
            watcher()
