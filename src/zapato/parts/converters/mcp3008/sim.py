"""MCP3004, MCP3008, MCP3204, MCP3208: bits that go in and come out, one a clock (datasheets, Serial Communication)."""

from __future__ import annotations

from collections.abc import Mapping

from zapato.parts.simulated import ChipBoard, ReadStimulus


class Chip:
    """Ten bits; eight inputs. Its VREF is on its supply."""

    bits = 10
    volts = 3.3

    def __init__(self, stimulus: ReadStimulus) -> None:
        self.board: ChipBoard | None = None
        self.pins: Mapping[int, int] = {}
        self.end()

    def join(self, board: ChipBoard, pins: Mapping[int, int], interrupt: int | None) -> None:
        self.board, self.pins = board, pins

    def power_on(self) -> None:
        self.end()

    def write(self, data: bytes) -> None:
        """Nothing is written to it but what `move` takes."""

    def read(self, size: int) -> bytes:
        return bytes(size)

    def end(self) -> None:
        """The select line moved: what was under way is dropped."""
        self.heard: list[int] = []
        self.out: list[int] = []

    def move(self, sent: bytes) -> bytes:
        """What comes in while these bytes go out."""
        given = 0
        for byte in sent:
            for place in range(7, -1, -1):
                given = given << 1 | self._clock(byte >> place & 1)
        return given.to_bytes(len(sent), "big")

    def _clock(self, bit: int) -> int:
        """One clock: a bit in, a bit out; nobody drives the line before the null bit."""
        if self.out:
            return self.out.pop(0)
        if bit or self.heard:
            self.heard.append(bit)
        if len(self.heard) < 6:  # start, single, three of the number, and a clock to sample
            return 1
        count = self._count(self.heard[1], self.heard[2] << 2 | self.heard[3] << 1 | self.heard[4])
        bits = [count >> place & 1 for place in range(self.bits - 1, -1, -1)]
        self.out = [
            0,
            *bits,
            *bits[-2::-1],
            *[0] * 64,
        ]  # a null bit, the result, and once more from its lowest bit up
        self.heard = []
        return 1

    def _count(self, single: int, number: int) -> int:
        volts = 0.0
        if self.board and single and number in self.pins:
            volts = self.board.applied("volts", self.pins[number]) or 0.0
        full = 1 << self.bits
        return max(0, min(full - 1, int(volts / self.volts * full)))
