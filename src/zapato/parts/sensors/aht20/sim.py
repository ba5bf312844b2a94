"""AHT20: status, trigger, and the measurement in 20 bits each with a check byte (datasheet, 5.4)."""

from __future__ import annotations

from zapato.parts.simulated import Measuring, ReadStimulus, crc8

TAKES = 80.0
"""ms until the measurement is complete (5.4, step 3)."""
BUSY = 0x80


class Chip(Measuring):
    """Calibrated from the start."""

    def __init__(self, stimulus: ReadStimulus) -> None:
        self.stimulus, self.answer = stimulus, b"\x18"

    def write(self, data: bytes) -> None:
        if data[:1] == b"\xac":
            self.begin(TAKES, self._measured)

    def _measured(self) -> None:
        damp = round((self.stimulus("humidity") or 0) * 1048576 / 100)
        warm = round(((self.stimulus("temperature") or 0) + 50) * 1048576 / 200)
        both = (max(0, min(0xFFFFF, damp)) << 20 | max(0, min(0xFFFFF, warm))).to_bytes(5, "big")
        body = b"\x18" + both
        self.answer = body + bytes((crc8(body),))

    def read(self, size: int) -> bytes:
        if self.busy:
            return bytes((self.answer[0] | BUSY,)) + self.answer[1:size].ljust(size - 1, b"\xff")
        return self.answer[:size].ljust(size, b"\xff")
