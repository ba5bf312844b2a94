"""The steps of a rehearsal: acts at their moment, and expectations that are watched.

What a site's script does to a device happens in that device's own turn, for a power cut ends its program and an edge wakes it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import field
from typing import Any, Protocol

from zapato.design.acts import Call
from zapato.design.script import Step
from zapato.record import record
from zapato.simulator.clock import Clock
from zapato.simulator.trace import Trace


class Target(Protocol):
    """Where steps are played: one device's world, or several."""

    def act(self, call: Call) -> None:
        """Do one act."""
        ...

    def begun(self) -> None:
        """An act is about to be done: what was said before it counts no more."""
        ...

    def read(self, part: str, name: str) -> Any:
        """A property: measured on the pin where that can be, else as the program has it."""
        ...

    def value_of(self, code: str) -> Callable[[], Any]:
        """What an expression of the rehearsal gives, as a call; what cannot be worked out is False."""
        ...

    def look(self, reads: Sequence[tuple[str, str]]) -> None:
        """Have the programs' own properties among these told, until another list comes."""
        ...

    def looks(self, reads: Sequence[tuple[str, str]]) -> Mapping[str, int]:
        """How often each program was asked, of those whose own properties are among these."""
        ...

    def fresh(self, reads: Sequence[tuple[str, str]], since: Mapping[str, int]) -> bool:
        """Whether each of these programs was asked since then, as far as it runs."""
        ...


def evaluated(text: str, target: object) -> Callable[[], Any]:
    """What an expression gives that reads `target` as w; what cannot be worked out is False."""
    names: dict[str, Any] = {
        "__builtins__": {},
        "w": target,
        "min": min,
        "max": max,
        "abs": abs,
        "round": round,
    }
    expression: Callable[[], Any] = eval(compile(f"lambda: ({text})", "expectation", "eval"), names)

    def judge() -> Any:
        try:
            return expression()
        except (TypeError, ZeroDivisionError, OverflowError):
            return False

    return judge


@record
class Waiting:
    """A step on its way.

    Attributes:
        next: the step that follows it, where that has no moment of its own.
        begun, until: ms.
        asked: how often the programs had been looked at when it began.
        closing: its last moment is over, and only the programs' own values are waited for.
    """

    step: Step
    judge: Callable[[], Any]
    next: Waiting | None = None
    begun: int = 0
    until: int = 0
    asked: Mapping[str, int] = field(default_factory=dict[str, int])
    waited: bool = False
    closing: bool = False


class Steps:
    """Plays steps in a target. Whoever makes it calls `watch` after everything that happens."""

    def __init__(self, target: Target, clock: Clock, trace: Trace) -> None:
        self.target, self.clock, self.trace = target, clock, trace
        self.watching: list[Waiting] = []

    def load(self, steps: Sequence[Step]) -> None:
        """Steps with `at` are set on the clock; the others follow the one before."""
        before: Waiting | None = None
        for step in steps:
            # The expectation was made by the type checker, from its own syntax tree.
            running = Waiting(step, (lambda: True) if step.act else self.target.value_of(step.code))
            if step.at is None and before is not None:
                before.next = running
            else:
                self.clock.at(step.at or 0, lambda running=running: self.begin(running))
            before = running

    def begin(self, running: Waiting) -> None:
        step = running.step
        if step.wait and not running.waited:
            running.waited = True
            self.clock.after(step.wait, lambda: self.begin(running))
            return
        if step.act and step.act_call:
            self.target.begun()
            self.trace.log("act", step.text, step.number)
            if running.next:
                follower = running.next
                self.clock.after(step.over, lambda: self.begin(follower))
            self.target.act(step.act_call)
            return
        running.begun, running.asked = self.clock.now, self.target.looks(step.reads)
        running.until = self.clock.now + (step.within or step.stays or 0)
        self.watching.append(running)
        self._look()
        self.clock.at(running.until, lambda: self.close(running))

    def _look(self) -> None:
        self.target.look(sorted({read for watch in self.watching for read in watch.step.reads}))

    def _fresh(self, running: Waiting) -> bool:
        return self.target.fresh(running.step.reads, running.asked)

    def watch(self) -> None:
        """After everything that happens: judge what can be judged."""
        for watch in list(self.watching):
            if not self._fresh(watch):
                continue
            if watch.closing:
                self.done(watch, bool(watch.judge()))
            elif watch.step.within and watch.judge():
                self.done(watch, True)
            elif watch.step.stays and not watch.judge():
                self.done(watch, False)

    def close(self, running: Waiting) -> None:
        """The last moment of an expectation."""
        if running in self.watching:
            running.closing = True
            if self._fresh(running):
                self.done(running, bool(running.judge()))

    def done(self, running: Waiting, passed: bool) -> None:
        self.watching.remove(running)
        step = running.step
        seen = {f"{part}.{name}": self.target.read(part, name) for part, name in step.reads}
        after = self.clock.now - running.begun
        self.trace.log("expect", step.text, passed, number=step.number, seen=seen, after=after)
        self._look()
        if running.next:
            self.begin(running.next)
