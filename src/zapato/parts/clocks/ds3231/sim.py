"""DS3231: counts on its battery while the board is dark, a little too fast or slow (datasheet, Address Map; OSF in 0Fh)."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime, timedelta

from zapato.parts.simulated import ChipBoard, ReadStimulus

STATUS, STOPPED = 0x0F, 0x80
BEGINS = datetime(2000, 1, 1, tzinfo=UTC)


class Chip:
    """The world sets `drift` (ppm, how much too fast) and `battery` (%; at 0 it forgets with the power)."""

    def __init__(self, stimulus: ReadStimulus) -> None:
        self.stimulus, self.pointer, self.status = stimulus, 0, STOPPED
        self.board: ChipBoard | None = None
        self.then, self.since = BEGINS, BEGINS
        self.part = ""

    def join(self, board: ChipBoard, pins: Mapping[int, int], interrupt: int | None) -> None:
        self.board = board
        self.since = board.utc()

    def power_on(self) -> None:
        if self.stimulus("battery") == 0:
            self.status, self.then, self.since = STOPPED, BEGINS, self._utc()

    def _utc(self) -> datetime:
        return self.board.utc() if self.board else BEGINS

    @property
    def now(self) -> datetime:
        passed: timedelta = self._utc() - self.since
        return self.then + passed * (1 + (self.stimulus("drift") or 0) * 1e-6)

    def read(self, size: int) -> bytes:
        now = self.now
        rows = (now.second, now.minute, now.hour, now.isoweekday(), now.day, now.month, now.year % 100)
        registers = {at: value // 10 << 4 | value % 10 for at, value in enumerate(rows)} | {
            STATUS: self.status
        }
        return bytes(registers.get(self.pointer + n, 0) for n in range(size))

    def write(self, data: bytes) -> None:
        self.pointer = data[0]
        if self.pointer == 0 and len(data) == 8:
            second, minute, hour, _, day, month, year = ((byte >> 4) * 10 + (byte & 15) for byte in data[1:])
            self.then, self.since = (
                datetime(2000 + year, month, day, hour, minute, second, tzinfo=UTC),
                self._utc(),
            )
        elif self.pointer == STATUS and len(data) == 2:
            self.status = data[1] & STOPPED & self.status
