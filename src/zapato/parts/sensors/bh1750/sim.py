"""BH1750FVI: powered on and set to a continuous mode, it gives counts of 1/1.2 lx (datasheet, Instruction set)."""

from __future__ import annotations

from zapato.parts.simulated import Feel, Measuring

MODES = (0x10, 0x11, 0x13, 0x20, 0x21, 0x23)


TAKES = 180.0
"""ms of the first measurement in high resolution, at the most (Measurement mode)."""


class Chip(Measuring):
    """Its one register is the mode."""

    def __init__(self, feel: Feel) -> None:
        self.feel, self.mode = feel, 0

    def write(self, data: bytes) -> None:
        if data[:1] == b"\x00":
            self.mode = 0
        elif data and data[0] in MODES:
            self.mode = data[0]
            self.begin(TAKES, lambda: None)

    def read(self, size: int) -> bytes:
        if self.busy:
            return bytes(size)
        light = self.feel("illuminance") or 0
        return min(int(light * 1.2), 65535).to_bytes(2, "big")[:size] if self.mode else bytes(size)
