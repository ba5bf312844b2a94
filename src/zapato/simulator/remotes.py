"""Hand-held remotes and switched plugs around a board: trains of pulses, edge by edge, in and out.

A frame is 24 bits and a short pulse, then a silence of 31 of them (PT2262 and EV1527 datasheets); each bit is four short pulses long.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from random import Random
from typing import Any

from zapato.simulator.clock import Clock
from zapato.simulator.pins import PinLine

PULSE = 340
JITTER = 0.06
"""Share by which a pulse is longer or shorter than it should be."""
END = 3000
"""us of silence that end a frame."""


def pulses(code: str) -> Iterator[tuple[int, int]]:
    """Level, and for how many short pulses, of one frame."""
    for bit in f"{int(code, 16):024b}":
        yield from ((1, 3), (0, 1)) if bit == "1" else ((1, 1), (0, 3))
    yield from ((1, 1), (0, 31))


class Remote:
    """What reaches a receiver module whose output is on this line."""

    def __init__(self, line: PinLine, clock: Clock, random: Random) -> None:
        self.line, self.clock, self.random = line, clock, random
        self.noise = 0.0
        """Edges a second while nobody sends."""
        self._turn = 0
        line.quiet = True
        line.change(0)

    def put(self, name: str, value: Any, over: int = 0) -> None:
        """Its "code" for so many frames, (code, times), or "noise" from now on."""
        self.press(*value) if name == "code" else self.hiss(value)

    def press(self, code: str, times: int) -> None:
        """A button, for so many frames."""
        self._turn += 1
        wanted = [pulse for _ in range(times) for pulse in pulses(code)]
        train = [
            (level, round(n * PULSE * self.random.uniform(1 - JITTER, 1 + JITTER))) for level, n in wanted
        ]
        self._play(iter(train), self.clock.now * 1000 + self.clock.micro, self._turn)

    def hiss(self, rate: float) -> None:
        """Noise from now on, so many edges a second."""
        self.noise = rate
        self._turn += 1
        if rate:
            self._play(self._noise(), self.clock.now * 1000 + self.clock.micro, self._turn)

    def _noise(self) -> Iterator[tuple[int, int]]:
        while self.noise:
            yield 1 - self.line.level, round(self.random.expovariate(self.noise) * 1e6) + 20

    def _play(self, train: Iterator[tuple[int, int]], moment: int, turn: int) -> None:
        """The next edge at this moment, us, and those after it."""

        def edge() -> None:
            if turn != self._turn:
                return
            pulse = next(train, None)
            if pulse is None:
                self.hiss(self.noise)
                return
            self.clock.reach(moment)
            self.line.change(pulse[0])
            self._play(train, moment + pulse[1], turn)

        self.clock.at(moment // 1000, edge)


class Plug:
    """Hears what a transmitter module sends, as a switched plug would; and so does the receiver module beside it."""

    def __init__(
        self, line: PinLine, clock: Clock, tell: Callable[[str], None], beside: Remote | None
    ) -> None:
        self.line, self.clock, self.tell, self.beside = line, clock, tell, beside
        self.sent: str | None = None
        self._then, self._widths = 0, list[int]()
        self._times = 0
        line.quiet = True
        line.on_change = self._edge

    def read(self, name: str) -> str | None:
        """The code that was "sent" last."""
        return self.sent

    def _edge(self) -> None:
        if self.beside:
            self.beside.line.change(self.line.level)
        now = self.clock.now * 1000 + self.clock.micro
        width, self._then = now - self._then, now
        if width > END and self.line.level:
            self._widths.clear()
        else:
            self._widths.append(width)
        if len(self._widths) == 49:
            self._heard()

    def _heard(self) -> None:
        pairs = zip(self._widths[0:48:2], self._widths[1:48:2], strict=True)
        bits = "".join("1" if high > 2 * low else "0" if low > 2 * high else "?" for high, low in pairs)
        if "?" not in bits:
            self._times = self._times + 1 if self.sent == f"{int(bits, 2):06x}" else 1
            self.sent = f"{int(bits, 2):06x}"
            if self._times == 2:  # plugs want it more than once
                self.tell(self.sent)
