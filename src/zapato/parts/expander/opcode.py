"""What expanders on SPI share: an opcode and a register before what is written or read."""

from __future__ import annotations

from zapato.parts.simulated import BusStandIn

WRITES, READS = 0x40, 0x41


class WithOpcode(BusStandIn):
    """A chip with registers whose first byte says whether it is written or read; another address is not its own."""

    _opcode = -1
    _register = -1

    def end(self) -> None:
        """The select line moved."""
        self._opcode = self._register = -1

    def move(self, sent: bytes) -> bytes:
        """What comes in while these bytes go out."""
        return b"".join(self._byte(byte) for byte in sent)

    def _byte(self, byte: int) -> bytes:
        if self._opcode < 0:
            self._opcode = byte
        elif self._register < 0:
            self._register = byte
        elif self._opcode == WRITES:
            self.write(bytes((self._register, byte)))
            self._register += 1
        elif self._opcode == READS:
            self.write(bytes((self._register,)))
            self._register += 1
            return self.read(1)
        return b"\xff"
