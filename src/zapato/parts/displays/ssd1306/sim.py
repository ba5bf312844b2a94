"""SSD1306: its memory of 128 by 64 points, addressed as the datasheet has it (10.1 Command Table; 8.7 Graphic Display Data RAM)."""

from __future__ import annotations

from collections.abc import Mapping

from zapato.parts.simulated import ChipBoard, ReadStimulus

WIDTH, HEIGHT = 128, 64
TAKES = {0x20: 1, 0x21: 2, 0x22: 2, 0x81: 1, 0x8D: 1, 0xA8: 1, 0xD3: 1, 0xD5: 1, 0xD9: 1, 0xDA: 1, 0xDB: 1}
"""Commands with more bytes behind them, and how many."""


class Chip:
    """Points are bits of bytes that stand upright, eight lines in a page, the lowest bit on top."""

    def __init__(self, stimulus: ReadStimulus) -> None:
        self.memory = bytearray(WIDTH * HEIGHT // 8)
        self.on = self.pump = False
        self.columns, self.pages = [0, 127], [0, 7]
        self.at = [0, 0]
        self._waits: list[int] = []
        self.board: ChipBoard | None = None
        self.part = ""

    def power_on(self) -> None:
        self.on = self.pump = False
        self._waits.clear()

    def join(self, board: ChipBoard, pins: Mapping[int, int], interrupt: int | None) -> None:
        """It is told in the trace what it shows."""
        self.board = board

    def read(self, size: int) -> bytes:
        return bytes((0 if self.on else 0x40,)) * size

    def write(self, data: bytes) -> None:
        if data[:1] == b"\x40":
            self._draw(data[1:])
        elif data[:1] == b"\x00":
            for byte in data[1:]:
                self._command(byte)

    def _command(self, byte: int) -> None:
        self._waits.append(byte)
        first, *given = self._waits
        if len(given) < TAKES.get(first, 0):
            return
        self._waits.clear()
        if first in (0xAE, 0xAF):
            self.on = first == 0xAF
            self._tell()
        elif first == 0x8D:
            self.pump = bool(given[0] & 4)
        elif first == 0x21:
            self.columns, self.at[0] = given, given[0]
        elif first == 0x22:
            self.pages, self.at[1] = given, given[0]

    def _draw(self, data: bytes) -> None:
        for byte in data:
            column, page = self.at
            self.memory[(page & 7) * WIDTH + (column & 127)] = byte
            column += 1
            if column > self.columns[1]:
                column = self.columns[0]
                page = page + 1 if page < self.pages[1] else self.pages[0]
            self.at = [column, page]
        self._tell()

    def _tell(self) -> None:
        if self.board:
            self.board.screen(self.part, self.points)

    @property
    def points(self) -> bytes:
        """What lights, as in its memory; nothing while it is off or its pump has no voltage."""
        return bytes(self.memory) if self.on and self.pump else bytes(len(self.memory))
