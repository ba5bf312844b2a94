"""MCP23017: registers in pairs with IOCON.BANK = 0 (datasheet, table 3-3), directions, pull-ups, latches, interrupt on change."""

from __future__ import annotations

from zapato.parts.expander.quasi import Quasi

IODIR, GPINTEN, IOCON, GPPU, INTCAP, GPIO, OLAT = 0x00, 0x04, 0x0A, 0x0C, 0x10, 0x12, 0x14
REGISTERS = 0x16


class Chip(Quasi):
    """Sixteen pins; the address pointer goes on by one after each byte."""

    size = 2

    def power_on(self) -> None:
        self.registers = bytearray(REGISTERS)
        self.registers[IODIR : IODIR + 2] = b"\xff\xff"
        self.pointer = 0
        self.show()
        self.quiet()

    def _pair(self, register: int) -> int:
        return int.from_bytes(self.registers[register : register + 2], "little")

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
            at = self.pointer % REGISTERS
            at = at + OLAT - GPIO if GPIO <= at < OLAT else at  # writing a port writes its latch
            self.registers[at] = byte
            self.pointer += 1
        self.show()

    def read(self, size: int) -> bytes:
        self.registers[GPIO : GPIO + 2] = self.levels().to_bytes(2, "little")
        return bytes(self.registers[(self.pointer + n) % REGISTERS] for n in range(size))
