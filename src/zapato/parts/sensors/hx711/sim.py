"""HX711: conversions ten times a second, read bit by bit (datasheet, Serial Interface)."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial

from zapato.parts.simulated import ChipBoard, OfferedLine, ReadStimulus

PERIOD = 100
"""ms of a conversion with RATE low."""
SETTLES = 400
"""ms after power-up (table 1, Output settling time)."""
BITS, PULSES, HIGHEST = 24, 25, 0x7FFFFF
GARBAGE = 0x555555


class Chip:
    """Its data line is low while a conversion waits to be read, and high from the last pulse until the next."""

    line, address = -1, -1
    """The pins of its data and its clock."""

    def __init__(self, stimulus: ReadStimulus) -> None:
        self.stimulus = stimulus
        self.word, self.pulses, self.turn = 0, 0, 0

    def join(self, board: ChipBoard, pins: Mapping[int, int], interrupt: int | None) -> None:
        """Take hold of its two lines."""
        self.board = board
        self.data: OfferedLine = board.offered_line(self.line)
        self.clock: OfferedLine = board.offered_line(self.address)
        self.data.quiet = self.clock.quiet = True
        self.clock.on_change = self.moved
        self.power_on()

    def power_on(self) -> None:
        self._converts(SETTLES)

    def write(self, data: bytes) -> None:
        """Nothing is written to it but pulses of its clock."""

    def read(self, size: int) -> bytes:
        return bytes(size)

    def _converts(self, ms: int) -> None:
        """A conversion begins; one that was under way is dropped."""
        self.turn += 1
        self.pulses = PULSES
        self.data.change(1)
        self.board.after(ms, partial(self._ready, self.turn))

    def _ready(self, turn: int) -> None:
        if turn != self.turn:
            return
        if self.board.fault(self.line, self.address) == "silent":
            self._converts(PERIOD)
            return
        steps = max(-HIGHEST - 1, min(HIGHEST, round(self.stimulus("load") or 0))) & 0xFFFFFF
        self.word = GARBAGE if self.board.fault(self.line, self.address) == "garbage" else steps
        self.pulses = 0
        self.data.change(0)

    def moved(self) -> None:
        """The clock: at each rising edge the next bit; after the last pulse it converts again."""
        if self.pulses >= PULSES:
            return
        if self.clock.level:
            self.pulses += 1
            self.data.change(self.word >> BITS - self.pulses & 1 if self.pulses <= BITS else 1)
            if self.pulses == PULSES:
                self._converts(PERIOD)
