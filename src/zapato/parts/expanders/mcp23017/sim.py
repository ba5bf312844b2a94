"""MCP23017: registers in pairs with IOCON.BANK = 0 (datasheet, table 3-3), directions, pull-ups, latches, interrupt on change."""

from __future__ import annotations

from zapato.parts.expander.quasi import Quasi

IODIR, GPINTEN, GPPU, GPIO, OLAT = 0, 2, 6, 9, 10
"""Numbers of the registers, which come once a port."""
REGISTERS = 11


class Chip(Quasi):
    """Sixteen pins, two ports; the address pointer goes on by one after each byte."""

    size = 2

    def power_on(self) -> None:
        self.registers = bytearray(REGISTERS * self.size)
        self.registers[: self.size] = b"\xff" * self.size  # all are inputs
        self.pointer = 0
        self.show()
        self.quiet()

    def _pair(self, register: int) -> int:
        at = register * self.size
        return int.from_bytes(self.registers[at : at + self.size], "little")

    def show(self) -> None:
        reads, pulls, latch = self._pair(IODIR), self._pair(GPPU), self._pair(OLAT)
        for number, line in self.lines.items():
            line.pull = pulls >> number & 1
            line.out = None if reads >> number & 1 else latch >> number & 1
            line.hear()

    def moved(self) -> None:
        if self._pair(GPINTEN) & self._pair(IODIR):
            super().moved()

    def write(self, data: bytes) -> None:
        if not data:
            return
        self.pointer = data[0]
        for byte in data[1:]:
            at = self.pointer % len(self.registers)
            at += self.size if at // self.size == GPIO else 0  # writing a port writes its latch
            self.registers[at] = byte
            self.pointer += 1
        self.show()

    def read(self, size: int) -> bytes:
        at = GPIO * self.size
        self.registers[at : at + self.size] = self.levels().to_bytes(self.size, "little")
        return bytes(self.registers[(self.pointer + n) % len(self.registers)] for n in range(size))
