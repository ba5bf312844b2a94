"""INA219: shunt and bus voltage registers (datasheet, 8.6), on a shunt of 0.1 ohm."""

from __future__ import annotations

from zapato.parts.simulated import Feel


class Chip:
    """Registers of sixteen bits."""

    def __init__(self, feel: Feel) -> None:
        self.feel, self.pointer = feel, 0

    def write(self, data: bytes) -> None:
        if data:
            self.pointer = data[0]

    def read(self, size: int) -> bytes:
        value = 0x399F
        if self.pointer == 1:
            value = round((self.feel("current") or 0) * 10_000)
        elif self.pointer == 2:
            value = round((self.feel("voltage") or 0) / 0.004) << 3 | 2
        return (value & 0xFFFF).to_bytes(2, "big")[:size]
