"""SHT31: a single shot is fetched with the next read, which it does not acknowledge while it measures (datasheet, 4.3; conversion 4.13)."""

from __future__ import annotations

from zapato.parts.simulated import Fault, Feel, Measuring, checked

TAKES = 15.5
"""ms at high repeatability (table 4)."""
NO_ANSWER = 19


class Chip(Measuring):
    """High repeatability without stretching: 0x2400."""

    def __init__(self, feel: Feel) -> None:
        self.feel, self.answer = feel, b""

    def write(self, data: bytes) -> None:
        if data == b"\x24\x00":
            self.begin(TAKES, self._measured)

    def _measured(self) -> None:
        warm, damp = self.feel("temperature") or 0, self.feel("humidity") or 0
        self.answer = checked((warm + 45) * 65535 / 175, damp * 65535 / 100)

    def read(self, size: int) -> bytes:
        if self.busy:
            raise Fault(NO_ANSWER)
        data, self.answer = self.answer[:size], b""
        return data.ljust(size, b"\xff")
