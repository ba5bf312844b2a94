"""An SD card in its slot: commands and blocks on SPI (SD Physical Layer Simplified Specification, chapter 7).

It outlives the power, as flash does; a block counts as written when all of it has come.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from zapato.simulator.fat import BLOCK, EMPTY, Volume, done, fresh
from zapato.simulator.wasi import Fault

BLOCKS = 131_072
"""64 MiB."""
IDLE, ILLEGAL = 1, 5
OTHERS = "PICTURES.ZIP"
"""What somebody else keeps on it."""
WRITING = 40
"""Bytes for which it is busy after a block."""
_CSD = (
    bytes.fromhex("400e00325b59")
    + bytes(1)
    + (BLOCKS // 1024 - 1).to_bytes(3, "big")
    + bytes.fromhex("7f800a400001")
)
"""Section 5.3.3: the size in pieces of 512 KiB."""
_OLD_CSD = bytes.fromhex("002600325b5980ffedb6ff800a400001")
"""Section 5.3.2: 1024 times 128 blocks of 512 bytes."""


class SdCard:
    """What hangs on a select line; `put` takes what the world says: inserted, the KiB that are free, and whether it is
    of the first generation, which knows no CMD8 and counts bytes in place of blocks."""

    def __init__(self) -> None:
        self.blocks = fresh(BLOCKS)
        self.inserted, self.old = True, False
        self._commands: dict[int, Callable[[int], bytes]] = {
            0: self._reset,
            8: self._voltage,
            9: self._size,
            16: lambda given: self._state,
            17: self._read,
            24: self._write,
            41: self._initialize,
            55: lambda given: self._state,
            58: self._conditions,
        }
        self._wake()

    def _wake(self) -> None:
        self._idle, self._tries = True, 0
        self.end()

    def power_on(self) -> None:
        """The power is gone and back."""
        self._wake()

    def put(self, name: str, value: Any, over: int = 0) -> None:
        if name == "room":
            self._leave(round(value))
        else:
            setattr(self, name, bool(value))
            self._wake()

    def _leave(self, room: int) -> None:
        """Fill it up with somebody's pictures until so many KiB are free."""
        volume = Volume()
        done(volume.mount(), self.blocks)
        if OTHERS in dict(done(volume.names(), self.blocks)):
            done(volume.remove(OTHERS), self.blocks)
        length = volume.each * BLOCK
        used = sum(-(-size // length) for _, size in done(volume.names(), self.blocks))
        take = (volume.clusters - 2 - used) * length - room * 1024
        if take > 0:
            done(volume.take(OTHERS, take), self.blocks)

    def files(self) -> dict[str, bytes]:
        """What is on it."""
        volume = Volume()
        try:
            done(volume.mount(), self.blocks)
            return {
                name: done(volume.read(name), self.blocks) for name, _ in done(volume.names(), self.blocks)
            }
        except Fault:
            return {}

    # --- on the bus

    def end(self) -> None:
        """The select line moved."""
        self._command = bytearray()
        self._answer = bytearray()
        self._block: int | None = None
        self._data = bytearray()
        self._begun = False

    def move(self, sent: bytes) -> bytes:
        """What comes in while these go out."""
        if not self.inserted:
            return b"\xff" * len(sent)
        came = bytearray()
        while len(came) < len(sent):
            came += self._many(sent[len(came) :])
        return bytes(came)

    def _many(self, sent: bytes) -> bytes:
        """As many bytes as go one way without a turn; at least one."""
        if self._answer and not self._command and self._block is None:
            data = bytes(self._answer[: len(sent)])
            del self._answer[: len(sent)]
            return data
        if self._begun and not self._answer and (room := BLOCK + 1 - len(self._data)) > 0:
            self._data += sent[:room]
            return b"\xff" * len(sent[:room])
        return bytes((self._one(sent[0]),))

    def _one(self, byte: int) -> int:
        if self._block is not None and not self._answer:
            return self._taking(byte)
        if self._answer and not self._command:
            return self._answer.pop(0)
        if self._command or byte & 0xC0 == 0x40:
            self._command.append(byte)
            if len(self._command) == 6:
                self._done()
        return 0xFF

    def _done(self) -> None:
        number, given = self._command[0] & 63, int.from_bytes(self._command[1:5], "big")
        self._command.clear()
        find = self._commands.get(number)
        reply = find(given) if find else bytes((ILLEGAL,))
        self._answer = bytearray(b"\xff" + reply)

    @property
    def _state(self) -> bytes:
        return bytes((IDLE if self._idle else 0,))

    def _reset(self, given: int) -> bytes:
        self._idle, self._tries = True, 0
        return self._state

    def _voltage(self, given: int) -> bytes:
        return bytes((ILLEGAL,)) if self.old else self._state + given.to_bytes(4, "big")

    def _initialize(self, given: int) -> bytes:
        self._tries += 1
        self._idle = self._tries < 3 or not (self.old or given & 0x4000_0000)
        return self._state

    def _conditions(self, given: int) -> bytes:
        return self._state + b"\xc0\xff\x80\x00"

    def _size(self, given: int) -> bytes:
        return self._state + b"\xff\xfe" + (_OLD_CSD if self.old else _CSD) + b"\0\0"

    def _meant(self, given: int) -> int | None:
        """The block that a command names; None where there is none, or it is not ready."""
        number, rest = divmod(given, BLOCK) if self.old else (given, 0)
        return None if self._idle or rest or number >= BLOCKS else number

    def _read(self, given: int) -> bytes:
        number = self._meant(given)
        if number is None:
            return bytes((ILLEGAL,))
        return self._state + b"\xff\xff\xfe" + self.blocks.get(number, EMPTY) + b"\0\0"

    def _write(self, given: int) -> bytes:
        self._block = self._meant(given)
        if self._block is None:
            return bytes((ILLEGAL,))
        return self._state

    def _taking(self, byte: int) -> int:
        """A block comes in, its token first and two check bytes last."""
        if not self._begun:
            self._begun = byte == 0xFE
            return 0xFF
        self._data.append(byte)
        if len(self._data) == BLOCK + 2 and self._block is not None:
            self.blocks[self._block] = bytes(self._data[:BLOCK])
            self._block = None
            self._answer = bytearray(b"\xe5" + bytes(WRITING) + b"\xff")
        return 0xFF
