"""One virtual time for many programs: each has a thread, and only the one whose next moment is the earliest runs.

What one does to another takes time to arrive, so whoever runs never reaches into the past of those who wait; of two with the same
moment the one that was made first goes first. The same seed, the same order.

All run on one processor, because waking a thread on another takes longer than its turn; and as SCHED_BATCH where the system has it:
whoever is woken does not push the waker off, which had cost a third of a rehearsal.
"""

from __future__ import annotations

import contextlib
import heapq
import os
import threading
from collections.abc import Callable

from zapato.simulator.clock import Call, Clock, End

NEVER = 1 << 62


class Scheduler:
    """Who runs. `now` is the common time, ms."""

    def __init__(self) -> None:
        self.now = 0
        self.ended = False
        self.wrong: BaseException | None = None
        """What went wrong in an event of the world itself."""
        self.watchers: list[Call] = []
        self._clocks: list[TurnClock] = []
        self._heap: list[tuple[int, int]] = []
        self.world = WorldClock(self)
        self._all_left = threading.Event()
        self._left = 0
        self._processor = _processor()

    def join(self, clock: TurnClock) -> int:
        """A clock takes part; gives its number."""
        self._clocks.append(clock)
        return len(self._clocks) - 1

    def note(self, clock: TurnClock) -> None:
        """Its next moment may be another."""
        heapq.heappush(self._heap, (clock.next, clock.number))

    def run(self, works: list[Callable[[], None]], stack: int = 1 << 20) -> None:
        """Run each of these in a thread of its own, with the clock of the same number, until all are over."""
        threads = [
            threading.Thread(target=self._one, args=(number, work), daemon=True)
            for number, work in enumerate(works, 1)
        ]
        before = threading.stack_size(stack)
        try:
            for thread in threads:
                thread.start()
        finally:
            threading.stack_size(before)
        self.hand_on()
        self._all_left.wait()
        for thread in threads:
            thread.join()
        if self.wrong:
            raise self.wrong

    def _one(self, number: int, work: Callable[[], None]) -> None:
        clock = self._clocks[number]
        _stay(self._processor)
        clock.baton.acquire()
        try:
            work()
        except End:
            pass
        except BaseException as error:
            self.wrong, self.ended = self.wrong or error, True
        clock.limit, clock.out = NEVER, True
        self._left += 1
        self.hand_on()

    def hand_on(self) -> None:
        """Let the earliest run; events of the world happen on the way."""
        next_device = self._earliest()
        if next_device:
            next_device.baton.release()
        else:
            self._all_left.set()

    def wait(self, clock: TurnClock) -> None:
        """Come back when this clock's moment is the earliest. Raises End when the time is over."""
        self.note(clock)
        next_device = self._earliest()
        if next_device is not clock:
            assert next_device
            next_device.baton.release()
            clock.baton.acquire()
        if self.ended:
            raise End

    def _earliest(self) -> TurnClock | None:
        """Whose turn it is, the world's events done on the way; None where all have left."""
        while not self.ended:
            clock = self._first()
            if clock is None:
                self.ended = True
            elif clock is self.world:
                self._happen(heapq.heappop(self._heap)[0])
            else:
                return clock
        return next((clock for clock in self._clocks[1:] if not clock.out), None)

    def _first(self) -> TurnClock | None:
        """The clock with the next moment; None where no program runs any more."""
        if self._left == len(self._clocks) - 1:
            return None
        while self._heap:
            when, number = self._heap[0]
            clock = self._clocks[number]
            if clock.next == when and not clock.out:
                return clock
            heapq.heappop(self._heap)
        return None

    def _happen(self, when: int) -> None:
        """The world's next event."""
        try:
            self.now = max(self.now, when)
            self.world.one()
            for watcher in self.watchers:
                watcher()
        except End:
            self.ended = True
        except BaseException as error:
            self.wrong, self.ended = error, True
        self.note(self.world)


class TurnClock(Clock):
    """The time of one program among many."""

    def __init__(self, turns: Scheduler) -> None:
        super().__init__()
        self.turns, self.limit, self.out = turns, 0, False
        self.baton = threading.Lock()
        self.baton.acquire()
        self.number = turns.join(self)
        turns.note(self)

    @property
    def next(self) -> int:
        """The moment at which it wants to run."""
        return min(self._queue[0][0], self.limit) if self._queue else self.limit

    def at(self, when: int, call: Call) -> None:
        first = not self._queue or when < self._queue[0][0]
        super().at(when, call)
        if first:
            self.turns.note(self)

    def after(self, ms: int, call: Call) -> None:
        self.at(self.turns.now + ms, call)

    def go(self, limit: int, ready: Callable[[], bool] | None = None) -> bool:
        self._watch()
        if ready and ready():
            return True
        while True:
            self.limit = limit
            self.turns.wait(self)
            if not self._queue or self._queue[0][0] > limit:
                break
            when, _, call = heapq.heappop(self._queue)
            self._reach(when)
            call()
            self._watch()
            if ready and ready():
                return True
        self._reach(limit)
        return False

    def catch_up(self) -> None:
        """Whoever looks at this program's world from outside finds it at the common time: what moves there has moved."""
        if self.turns.now > self.now:
            self._reach(self.turns.now)
            for watcher in self.watchers:
                watcher()

    def _reach(self, when: int) -> None:
        if when > self.now:
            self.now, self.micro = when, 0
        self.turns.now = max(self.turns.now, self.now)

    def _watch(self) -> None:
        super()._watch()
        for watcher in self.turns.watchers:
            watcher()


class WorldClock(TurnClock):
    """The time of what belongs to no program: the broker, the script."""

    def __init__(self, turns: Scheduler) -> None:
        super().__init__(turns)
        self.limit, self.watchers = NEVER, turns.watchers

    @property
    def now(self) -> int:  # type: ignore[override]
        return self.turns.now

    @now.setter
    def now(self, value: int) -> None:
        """The common time is what it is."""

    def one(self) -> None:
        """The next event."""
        if self._queue:
            heapq.heappop(self._queue)[2]()


def _processor() -> int | None:
    """Which processor this thread runs on (proc(5), field 39 of stat); None where that is not told."""
    try:
        with open("/proc/thread-self/stat", encoding="utf-8") as file:
            return int(file.read().rpartition(")")[2].split()[36])
    except (OSError, ValueError, IndexError):
        return None


def _stay(processor: int | None) -> None:
    """Keep this thread on one processor: of all these threads only one runs, and waking another elsewhere takes longer."""
    if processor is not None and hasattr(os, "sched_setaffinity"):
        with contextlib.suppress(OSError):
            os.sched_setaffinity(0, {processor})
            os.sched_setscheduler(
                0, os.SCHED_BATCH, os.sched_param(0)
            )  # whoever is woken lets the waker go to sleep first
