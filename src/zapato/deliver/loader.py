"""The loader in the ROM of the ESP chips, spoken to over a serial line.

Source: Espressif, Serial Protocol (of the ROM loaders of each chip): packets in SLIP frames (RFC 1055), commands, checksum
and status bytes. The ROM's own loader is used as it is; nothing is put into the chip's memory to help it.

So the ESP8266 has neither compression nor a digest.
"""

from __future__ import annotations

import contextlib
import hashlib
import struct
import time
import zlib
from collections.abc import Callable
from typing import Protocol

from zapato.deliver.registers import flash_bytes, identification, stilled
from zapato.errors import NotDelivered
from zapato.record import record

END, ESCAPE, ESCAPED_END, ESCAPED_ESCAPE = 0xC0, 0xDB, 0xDC, 0xDD
FLASH_BEGIN, FLASH_DATA, FLASH_END = 0x02, 0x03, 0x04
SYNC, WRITE_REGISTER, READ_REGISTER = 0x08, 0x09, 0x0A
FLASH_SIZES, FLASH_ATTACH, CHANGE_RATE = 0x0B, 0x0D, 0x0F
PACKED_BEGIN, PACKED_DATA, PACKED_END, FLASH_MD5 = 0x10, 0x11, 0x12, 0x13
GREETING = b"\x07\x07\x12\x20" + b"\x55" * 32
SEED = 0xEF
"""Of the checksum over the data of a block."""
BLOCK = 0x400
"""Bytes of a block that the ROM takes."""
MAGIC_AT = 0x40001000
"""A register that tells the chips apart: their magic value."""
MAGIC = {
    0xFFF0C101: "esp8266",
    0x00F01D83: "esp32",
    0x000007C6: "esp32s2",
    0x00000009: "esp32s3",
    0x6921506F: "esp32c3",
    0x1B31506F: "esp32c3",
    0x4881606F: "esp32c3",
    0x4361606F: "esp32c3",
    0x2CE0806F: "esp32c6",
}
SECURE = ("esp32s2", "esp32s3", "esp32c3", "esp32c6")
"""Chips whose ROM takes one more word at the beginning: whether the flash is encrypted."""
ANSWER = 3.0
"""Seconds that an answer may take."""
ERASING = 40.0
"""Seconds that erasing a MiB may take: the slowest flash chips have 400 ms for a sector of 4 KiB at the most, 45 as a rule."""
OUTSIDE = 4096
"""Bytes outside of frames that are kept."""
FIRST_RATE = 115_200
"""Baud at which every loader begins."""
TRIES = 4
"""Times that a block is sent before the line is given up."""


class LoaderLine(Protocol):
    """A serial line."""

    def write(self, data: bytes) -> object: ...

    def read(self, size: int) -> bytes: ...

    def set_rate(self, rate: int) -> None: ...

    def drop_input(self) -> None: ...

    def patience(self, seconds: float) -> None: ...


@record(frozen=True)
class Silence(Exception):
    """No answer came in time."""

    what: str


def framed(packet: bytes) -> bytes:
    """One SLIP frame."""
    inner = packet.replace(b"\xdb", b"\xdb\xdd").replace(b"\xc0", b"\xdb\xdc")
    return b"\xc0" + inner + b"\xc0"


class Frames:
    """SLIP frames out of bytes as they come."""

    def __init__(self) -> None:
        self._into: bytearray | None = None
        self._escaped = False
        self.outside = bytearray()
        """What stood outside of frames, at its end: what a program says that began meanwhile."""

    def feed(self, data: bytes) -> list[bytes]:
        """The frames that these bytes complete."""
        packets: list[bytes] = []
        for byte in data:
            if byte == END:
                if self._into:
                    packets.append(bytes(self._into))
                    self._into = None
                else:
                    self._into = bytearray()
                self._escaped = False
            elif self._into is None:
                self.outside.append(byte)
            elif self._escaped:
                self._into.append({ESCAPED_END: END, ESCAPED_ESCAPE: ESCAPE}.get(byte, byte))
                self._escaped = False
            elif byte == ESCAPE:
                self._escaped = True
            else:
                self._into.append(byte)
        del self.outside[:-OUTSIDE]
        return packets


def checksum(data: bytes) -> int:
    """Over the data of one block."""
    value = SEED
    for byte in data:
        value ^= byte
    return value


class Loader:
    """A chip whose ROM loader listens on this line."""

    def __init__(self, line: LoaderLine) -> None:
        self.line = line
        self.chip = ""
        self._frames = Frames()
        self._waiting: list[bytes] = []

    # --- packets

    def _send(self, op: int, data: bytes, check: int) -> None:
        self.line.write(framed(struct.pack("<BBHI", 0, op, len(data), check) + data))

    def _answer(self, op: int, seconds: float) -> tuple[int, bytes]:
        """Value and data of the answer to `op`. Raises Silence."""
        until = time.monotonic() + seconds
        while True:
            while self._waiting:
                frame = self._waiting.pop(0)
                if len(frame) >= 8 and frame[0] == 1 and frame[1] == op:
                    return struct.unpack_from("<I", frame, 4)[0], frame[8:]
            left = until - time.monotonic()
            if left <= 0:
                raise Silence(f"command {op:#04x}")
            self.line.patience(0.25 if left > 0.25 else left)
            self._waiting += self._frames.feed(self.line.read(1 << 12))

    def ask(
        self, op: int, data: bytes = b"", check: int = 0, seconds: float = ANSWER, tries: int = TRIES
    ) -> tuple[int, bytes]:
        """A command and its answer; asked again where none comes. Raises Silence, and Failed where the chip refuses."""
        for left in range(tries, 0, -1):
            self._waiting.clear()
            self._send(op, data, check)
            try:
                return self._checked(op, *self._answer(op, seconds))
            except Silence:
                if left == 1:
                    raise
            except Failed as failed:
                if left == 1 or failed.code not in AGAIN:
                    raise
        raise AssertionError("no tries")

    def _checked(self, op: int, value: int, answer: bytes) -> tuple[int, bytes]:
        """The answer without its status. Raises Failed where that is not good."""
        size = 2 if self.chip in ("", "esp8266") and len(answer) < 4 else 4
        status = answer[-size:] if len(answer) >= size else answer
        if status[:1] not in (b"", b"\0"):
            raise Failed(op, status[1] if len(status) > 1 else 0)
        return value, answer[: len(answer) - size]

    # --- who is there

    def greet(self) -> bool:
        """Whether the loader answers: it finds the line's rate by this greeting."""
        self.line.drop_input()
        self._send(SYNC, GREETING, 0)
        try:
            self._answer(SYNC, 0.1)
        except Silence:
            return False
        try:
            while True:  # it answers eight times
                self._answer(SYNC, 0.05)
        except Silence:
            return True

    def identify(self) -> str:
        """The chip, by its magic value. Raises NotDelivered where that is not known."""
        value = 0
        for _ in range(TRIES):
            value, _ = self.ask(READ_REGISTER, struct.pack("<I", MAGIC_AT))
            if value in MAGIC:
                break
        else:
            raise NotDelivered(
                f"a chip that is not known here answers (it calls itself {value:#010x})",
                "zapato boards lists the chips that are known; a shorter cable where the line is bad",
            )
        self.chip = MAGIC[value]
        return self.chip

    def faster(self, rate: int) -> bool:
        """Go on at another rate; False where nothing is heard at that one. The ESP8266's ROM has found its own by the greeting."""
        if self.chip == "esp8266" or rate == FIRST_RATE:
            return True
        self.ask(CHANGE_RATE, struct.pack("<II", rate, 0))
        self.line.set_rate(rate)
        time.sleep(0.05)
        self.line.drop_input()
        try:
            self.ask(READ_REGISTER, struct.pack("<I", MAGIC_AT), seconds=0.5)
        except Silence:
            return False
        return True

    def put(self, address: int, value: int) -> None:
        """Write a register."""
        self.ask(WRITE_REGISTER, struct.pack("<4I", address, value, 0xFFFFFFFF, 0))

    def still(self) -> None:
        """Switch off the watchdogs that would restart the chip in the middle of a long write."""
        for address, value in stilled(self.chip):
            self.put(address, value)

    def flash_size(self) -> int:
        """Bytes of the flash chip that is there, as it says itself twice alike; 0 where it says nothing sensible."""
        sizes = [self._flash_size() for _ in range(2)]
        while sizes[-1] != sizes[-2] and len(sizes) < TRIES + 2:
            sizes.append(self._flash_size())
        return sizes[-1] if sizes[-1] == sizes[-2] else 0

    def _flash_size(self) -> int:
        writes, done, answer = identification(self.chip)
        for address, value in writes:
            self.put(address, value)
        for _ in range(10):
            if self.ask(READ_REGISTER, struct.pack("<I", done))[0] == 0:
                return flash_bytes(self.ask(READ_REGISTER, struct.pack("<I", answer))[0])
        return 0

    # --- the flash

    def attach(self, size: int) -> None:
        """Connect the flash chip of `size` bytes."""
        if self.chip == "esp8266":
            self.ask(
                FLASH_BEGIN, struct.pack("<4I", 0, 0, BLOCK, 0)
            )  # connects the flash's pins, erases nothing
            return
        self.ask(FLASH_ATTACH, struct.pack("<II", 0, 0))
        self.ask(FLASH_SIZES, struct.pack("<6I", 0, size, 1 << 16, 1 << 12, 1 << 8, 0xFFFF))

    def erase(self, at: int, size: int) -> None:
        """Erase whole sectors. Raises Silence, Failed."""
        words = [size, 0, BLOCK, at] + ([0] if self.chip in SECURE else [])
        patience = ANSWER + ERASING * size / (1 << 20)
        self.ask(FLASH_BEGIN, struct.pack(f"<{len(words)}I", *words), seconds=patience)

    def write(self, at: int, data: bytes, tell: Callable[[float], None] = lambda share: None) -> None:
        """Erase a region and write it; compressed where the ROM can. Raises Silence, Failed."""
        packed = self.chip != "esp8266"
        sent = zlib.compress(data, 9) if packed else data
        blocks = -(-len(sent) // BLOCK)
        erased = -(-len(data) // 4096) * 4096 if packed else blocks * BLOCK
        words = [len(data) if packed else erased, blocks, BLOCK, at]
        words += [0] if self.chip in SECURE else []
        begin, bulk = (PACKED_BEGIN, PACKED_DATA) if packed else (FLASH_BEGIN, FLASH_DATA)
        self.ask(begin, struct.pack(f"<{len(words)}I", *words), seconds=ANSWER + ERASING * erased / (1 << 20))
        for number in range(blocks):
            block = sent[number * BLOCK : (number + 1) * BLOCK]
            if not packed:
                block = block.ljust(BLOCK, b"\xff")
            self._block(bulk, number, block)
            tell((number + 1) / blocks)

    def _block(self, op: int, number: int, block: bytes) -> None:
        """One block; one that is refused is sent again, except where the chip says that its flash is at fault."""
        data = struct.pack("<4I", len(block), number, 0, 0) + block
        for left in range(TRIES, 0, -1):
            try:
                self.ask(op, data, checksum(block), ANSWER, tries=1)
                return
            except Failed as failed:
                if failed.code not in AGAIN or left == 1:
                    raise

    def digest(self, at: int, size: int) -> str:
        """MD5 of a region, as the chip reads it; empty where its ROM has none."""
        if self.chip == "esp8266":
            return ""
        _, answer = self.ask(
            FLASH_MD5, struct.pack("<4I", at, size, 0, 0), seconds=ANSWER + 8 * size / (1 << 20)
        )
        return answer[:32].decode("ascii", "replace") if len(answer) >= 32 else answer[:16].hex()

    def restart(self) -> None:
        """Leave the loader for the program that was written; the lines of the port do the same where they are wired."""
        self._frames.outside.clear()
        with contextlib.suppress(
            Silence, Failed
        ):  # it is gone before it answers, or does not do it in this state
            self.ask(FLASH_END, struct.pack("<I", 0), seconds=0.5, tries=1)

    @property
    def heard(self) -> bytes:
        """What came after leaving the loader, and is no answer."""
        return bytes(self._frames.outside)


HARMED = 0x07
"""Error of a message whose checksum is wrong."""
AGAIN = (0x05, 0x06, HARMED, 0x0A)
"""Errors of a message that may do better when it is sent once more: not valid, not acted on, harmed, waited too long for the flash."""
ERRORS = {
    0x05: "the message is not valid",
    0x06: "it could not act on the message",
    HARMED: "the checksum was wrong",
    0x08: "the flash does not hold what was written to it",
    0x09: "the flash could not be read",
    0x0A: "it waited too long for the flash",
    0x0B: "the compressed data are damaged",
}


class Failed(Exception):
    """The chip refused a command."""

    def __init__(self, op: int, code: int) -> None:
        super().__init__(ERRORS.get(code, f"error {code:#04x}"))
        self.op, self.code = op, code


def md5(data: bytes) -> str:
    """What the chip's digest must be."""
    return hashlib.md5(data).hexdigest()
