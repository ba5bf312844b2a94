"""ADS7828: a command byte chooses the input, what is read then is its conversion (datasheet, tables 1 and 2)."""

from __future__ import annotations

from collections.abc import Mapping

from zapato.parts.simulated import ChipBoard, ReadStimulus

INPUTS = (0, 2, 4, 6, 1, 3, 5, 7)
"""Table 2: the input of each number in bits 6 to 4, where bit 7 asks for one against COM."""
REFERENCE = 2.5
"""V of the reference inside, where bit 3 asks for it: here against whatever holds REF at the supply."""


class Chip:
    """Twelve bits, in two bytes; its REF is on its supply."""

    bits = 12
    volts = 3.3

    def __init__(self, stimulus: ReadStimulus) -> None:
        self.board: ChipBoard | None = None
        self.pins: Mapping[int, int] = {}
        self.command = 0

    def join(self, board: ChipBoard, pins: Mapping[int, int], interrupt: int | None) -> None:
        self.board, self.pins = board, pins

    def power_on(self) -> None:
        self.command = 0

    def write(self, data: bytes) -> None:
        self.command = data[0] if data else self.command

    def read(self, size: int) -> bytes:
        single, number = self.command >> 7, INPUTS[self.command >> 4 & 7]
        on, inside = self.command >> 2 & 1, self.command >> 3 & 1
        volts = 0.0
        if self.board and single and on and number in self.pins:
            volts = self.board.applied("volts", self.pins[number]) or 0.0
        full = 1 << self.bits
        count = max(0, min(full - 1, int(volts / (REFERENCE if inside else self.volts) * full)))
        return count.to_bytes((self.bits + 7) // 8, "big")[:size].ljust(size, b"\xff")
