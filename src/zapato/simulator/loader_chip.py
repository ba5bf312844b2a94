"""A chip in its loader, on a pseudo-terminal: what a delivery by cable is tried against.

It speaks the ROM's protocol (Espressif, Serial Protocol) over flash as it is: erasing sets every bit, writing only clears
bits. Bytes take their time at the line's rate; faults come when they are told to.

`deliver` does not know it, nor the other way round: tests and benchmarks put them together.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import select
import struct
import threading
import time
import zlib
from collections.abc import Callable
from dataclasses import field
from functools import cache

from zapato.boards.board import Board
from zapato.record import record

MAGIC = {
    "esp8266": 0xFFF0C101,
    "esp32": 0x00F01D83,
    "esp32s2": 0x7C6,
    "esp32s3": 0x9,
    "esp32c3": 0x1B31506F,
    "esp32c6": 0x2CE0806F,
}
MAGIC_AT = 0x40001000
FLASH_SPI = {
    "esp8266": (0x60000200, 0x24, 0x40),
    "esp32": (0x3FF42000, 0x24, 0x80),
    "esp32s2": (0x3F402000, 0x20, 0x58),
    "esp32s3": (0x60002000, 0x20, 0x58),
    "esp32c3": (0x60002000, 0x20, 0x58),
    "esp32c6": (0x60003000, 0x20, 0x58),
}
"""The controller of the flash, and from there its command register and its data (Technical Reference Manuals, SPI Controller; from memory)."""
HEADER_SIZES = {0: 1 << 19, 1: 1 << 18, 2: 1 << 20, 3: 1 << 21, 4: 1 << 22, 8: 1 << 23, 9: 1 << 24}
"""Bytes of flash by the upper half of byte 3 of an ESP8266 image (ESP8266 Firmware Image Format; ports/esp8266/modules/port_diag.py)."""
SECTOR = 4096
WORDS = {0x02: 4, 0x10: 4}
"""Words of the commands that begin a writing, on chips before the S2."""
WAKING = 0.01
"""Seconds by which a machine may wake a sleeper too late: so long before, the chip waits awake."""
RATES = (9_600, 57_600, 115_200, 230_400, 460_800, 921_600, 1_500_000, 2_000_000)
"""Those of the port's rates that termios has a name for."""
INVALID, HARMED, DAMAGED = 0x05, 0x07, 0x0B


@record
class Faults:
    """What goes wrong, by the number of the packet (from 1) at which it does; 0 never.

    Attributes:
        garble: a byte of the packet arrives wrong.
        drop: its answer is lost.
        late: the answer takes `delay` s.
        reset: the chip starts anew there, and forgets what it was doing.
        unplug: the cable comes out.
        every: garbles each packet whose number this divides.
        rot: the flash does not take one bit, the first time it is written.
    """

    garble: int = 0
    drop: int = 0
    late: int = 0
    delay: float = 0.0
    reset: int = 0
    unplug: int = 0
    every: int = 0
    rot: bool = False


@record
class LoaderChip:
    """The chip of a board, waiting in its loader.

    Attributes:
        board: whose chip it is.
        name: the port by which it is reached.
        paced: bytes take their time at the line's rate.
        flash_bytes: of the flash chip that is there, where it is not the board's.
        boot: what happens when it leaves the loader, given its flash; gives the lines that are said.
        slowest: baud beyond which nothing is heard, or 0.
        busy: seconds that went by while data were on the line.
        carried: bytes of them.
    """

    board: Board
    faults: Faults = field(default_factory=Faults)
    paced: bool = False
    boot: Callable[[bytes], list[str]] | None = None
    silent: bool = False
    flash_bytes: int = 0
    slowest: int = 0

    def __post_init__(self) -> None:
        import tty

        self._master, slave = os.openpty()
        tty.setraw(slave)
        self.name, self._slave = os.ttyname(slave), slave
        self.flash = bytearray(b"\xa5" * (self.flash_bytes or self.board.flash))
        self.registers: dict[int, int] = {}
        self.attached = False
        self.rate, self.packets, self.started = 115_200, 0, False
        self.busy, self.carried = 0.0, 0
        self._at, self._left, self._unpack = 0, 0, None
        self._free = time.monotonic()
        self._stopped = threading.Event()
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()

    def close(self) -> None:
        self._stopped.set()
        for end in (self._master, self._slave):
            with contextlib.suppress(OSError):
                os.close(end)
        self._thread.join(5)

    # --- the line

    def _serve(self) -> None:
        frame: bytearray | None = None
        with contextlib.suppress(OSError):
            while not self._stopped.is_set():
                while self.paced and not select.select([self._master], [], [], 0)[0]:
                    pass  # a sleeper would be woken late
                data = os.read(self._master, 1 << 12)
                self._pass(len(data))
                for byte in data:
                    if byte == 0xC0:
                        if frame:
                            self._packet(bytes(frame))
                            frame = None
                        else:
                            frame = bytearray()
                    elif frame is not None:
                        frame.append(byte)

    def _pass(self, count: int) -> None:
        """The time that so many bytes take: ten bits each."""
        if not self.paced:
            return
        now = time.monotonic()
        self._free = max(self._free, now) + count * 10 / self.rate
        time.sleep(max(0.0, self._free - time.monotonic() - WAKING))
        while time.monotonic() < self._free:
            pass

    def _say(self, data: bytes) -> None:
        self._pass(len(data))
        os.write(self._master, data)

    def _answer(self, op: int, value: int = 0, data: bytes = b"", error: int = 0) -> None:
        status = bytes([int(bool(error)), error]) + (b"" if self.board.chip.id == "esp8266" else b"\0\0")
        body = struct.pack("<BBHI", 1, op, len(data) + len(status), value) + data + status
        self._say(b"\xc0" + body.replace(b"\xdb", b"\xdb\xdd").replace(b"\xc0", b"\xdb\xdc") + b"\xc0")

    # --- commands

    def _packet(self, frame: bytes) -> None:
        packet = frame.replace(b"\xdb\xdc", b"\xc0").replace(b"\xdb\xdd", b"\xdb")
        if self.started or self.silent or len(packet) < 8 or not self._heard(packet[1]):
            return
        self.packets += 1
        faults, number = self.faults, self.packets
        if faults.unplug == number:
            self._stopped.set()
            os.close(self._slave)
            os.close(self._master)
            raise OSError
        if faults.reset == number:
            self._unpack, self._left = None, 0
            return
        if number == faults.garble or (faults.every and number % faults.every == 0):
            packet = packet[:-1] + bytes([packet[-1] ^ 0x10])
        if number == faults.late:
            time.sleep(faults.delay)
        _, op, size, check = struct.unpack_from("<BBHI", packet)
        answer = self._do(op, packet[8 : 8 + size], check)
        if number != faults.drop and answer is not None:
            value, data, error = answer
            for _ in range(8 if op == 0x08 else 1):
                self._answer(op, value, data, error)

    def _heard(self, op: int) -> bool:
        """Whether both ends of the line have one rate: bytes at another are others.

        A pseudo-terminal has no reset line, so a greeting at the first rate is taken for one after a reset. The ESP8266's ROM takes the
        rate of the greeting itself; whether others do is not counted on (Espressif, Serial Protocol, says nothing of it; from memory).
        """
        rate = _rates().get(_rate_of(self._slave), self.rate)
        if op == 0x08 and (rate == 115_200 or self.board.chip.id == "esp8266"):
            self.rate = rate
        return rate == self.rate and not 0 < self.slowest < rate

    def _do(self, op: int, data: bytes, check: int) -> tuple[int, bytes, int] | None:
        """Value, data and error of the answer to a command."""
        old = self.board.chip.id == "esp8266"
        if op in (0x02, 0x10) and not (old and op == 0x10):
            return 0, b"", self._begin(op, data)
        if op in (0x03, 0x11) and not (old and op == 0x11):
            return 0, b"", self._block(op, data, check)
        if op == 0x09 and len(data) == 16:
            address, value, _, _ = struct.unpack("<4I", data)
            self._register(address, value)
            return 0, b"", 0
        if op == 0x0A:
            (address,) = struct.unpack("<I", data)
            return (
                self.registers.get(address, MAGIC[self.board.chip.id] if address == MAGIC_AT else 0),
                b"",
                0,
            )
        if op == 0x13 and not old:
            at, size, _, _ = struct.unpack("<4I", data)
            return 0, hashlib.md5(self.flash[at : at + size]).hexdigest().encode(), 0
        if op == 0x0F and not old:
            self._answer(op)
            self.rate = struct.unpack_from("<I", data)[0]
            return None
        if op in (0x04, 0x12):
            self._answer(op)
            self._start()
            return None
        self.attached = self.attached or op == 0x0D
        return 0, b"", 0 if op in (0x08, 0x0B, 0x0D) else INVALID

    def _register(self, address: int, value: int) -> None:
        """A register is written; the bit that starts a transfer makes the flash answer its identification (JEDEC, 9Fh)."""
        self.registers[address] = value
        base, command, word = FLASH_SPI[self.board.chip.id]
        if address == base and value & 1 << 18 and self.attached:
            asked = self.registers.get(base + command, 0) & 0xFF
            size = len(self.flash).bit_length() - 1
            self.registers[base + word] = 0xEF | 0x40 << 8 | size << 16 if asked == 0x9F else 0xFFFFFF
            self.registers[base] = 0

    def _begin(self, op: int, data: bytes) -> int:
        self.attached = True
        words = struct.unpack(f"<{len(data) // 4}I", data)
        plain = self.board.chip.id in ("esp8266", "esp32")
        if len(words) != 4 + (not plain):
            return INVALID
        size, _, _, at = words[:4]
        end = -(-(at + size) // SECTOR) * SECTOR
        if at % SECTOR or end > len(self.flash):
            return INVALID
        self.flash[at:end] = b"\xff" * (end - at)
        self._at, self._left = at, size
        self._unpack = zlib.decompressobj() if op == 0x10 else None
        return 0

    def _block(self, op: int, data: bytes, check: int) -> int:
        size, _, _, _ = struct.unpack_from("<4I", data)
        block, value = data[16 : 16 + size], 0xEF
        for byte in block:
            value ^= byte
        if value != check & 0xFF:
            return HARMED
        if not self._left or (op == 0x11) != (self._unpack is not None):
            return INVALID
        if self._unpack:
            try:
                block = self._unpack.decompress(block)
            except zlib.error:
                return DAMAGED
        if self.faults.rot and block:
            self.faults.rot, block = False, bytes([block[0] ^ block[0] & -block[0]]) + block[1:]
        before = self.flash[self._at : self._at + len(block)]
        mixed = int.from_bytes(before, "big") & int.from_bytes(block[: len(before)], "big")
        self.flash[self._at : self._at + len(before)] = mixed.to_bytes(len(before), "big")
        self._at += len(block)
        self._left = max(0, self._left - len(block))
        self.carried += size
        return 0

    def _start(self) -> None:
        """Leave the loader for what is in the flash: the ESP8266 knows only so much of it as its image's header says."""
        self.started, self.rate = True, 115_200
        seen = bytes(self.flash)
        if self.board.chip.id == "esp8266":
            seen = seen[: HEADER_SIZES.get(seen[3] >> 4, 0)]
        for text in self.boot(seen) if self.boot else []:
            self._say(text.encode() + b"\r\n")


@cache
def _rates() -> dict[int, int]:
    """What termios calls a rate -> baud."""
    import termios

    return {getattr(termios, f"B{rate}"): rate for rate in RATES if hasattr(termios, f"B{rate}")}


def _rate_of(line: int) -> int:
    """The rate that a line is set to, as termios calls it."""
    import termios

    return termios.tcgetattr(line)[5]
