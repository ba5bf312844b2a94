"""The vendor's MicroPython image: what it is, for which chip, and where it leaves the data partition.

Sources: ESP-IDF Programming Guide, App Image Format and Partition Tables; ESP8266 Firmware Image Format (magic, flash mode and
size, segments);
UF2 specification (block layout, family ids); pico-sdk, binary_info (marker, entries, block devices); MicroPython,
ports/esp32/main.c (without a "vfs" partition all that is behind the last one), ports/esp8266/boards/*.ld.
"""

from __future__ import annotations

import hashlib
import struct
from collections.abc import Callable
from pathlib import Path

from zapato.boards.board import Board
from zapato.errors import Refused, Unreadable
from zapato.firmware.image import BLOCK
from zapato.firmware.package import BASE
from zapato.lang.source import shown
from zapato.record import record
from zapato.regex import regex

IMAGE, PARTITION, SUMS = 0xE9, b"\xaa\x50", b"\xeb\xeb"
TABLE_AT = 0x8000
"""Where the partition table is in the flash (ESP-IDF, Kconfig: PARTITION_TABLE_OFFSET)."""
CHIPS = {0: "esp32", 2: "esp32s2", 5: "esp32c3", 9: "esp32s3", 13: "esp32c6"}
"""Chip ids of the extended image header."""
BOOT_AT = {"esp32": 0x1000, "esp32s2": 0x1000}
"""Where the boot program is in the flash, where that is not 0 (ESP-IDF, Bootloader)."""
UF2_MAGIC, UF2_SECOND, UF2_END, UF2_BLOCK = 0x0A324655, 0x9E5D5157, 0x0AB16F30, 512
RP2040_FAMILY, RP2040_FLASH = 0xE48BFF56, 0x10000000
_BANNER = regex(rb"MicroPython v(\d+)\.(\d+)(?:\.(\d+))?")
_LITTLE = b"littlefs"


@record(frozen=True)
class Base:
    """A vendor's image, read.

    Attributes:
        chip: the chip it is for.
        version: of MicroPython, (1, 27, 0).
        at: where it begins in the flash.
        data: its bytes.
        partition: where the data partition begins in the flash, and its bytes; None where the board decides.
    """

    chip: str
    version: tuple[int, int, int]
    at: int
    data: bytes
    partition: tuple[int, int] | None


def read_base(path: Path, board: Board) -> Base:
    """The vendor's image in this file, for this board. Raises Unreadable, and Refused with what it is and what is needed."""
    try:
        raw = path.read_bytes()
    except OSError as error:
        raise Unreadable(f"cannot read {shown(path)}: {(error.strerror or 'no such file').lower()}") from None
    try:
        base = _READERS[_form(raw)](raw, board)
    except _Wrong as wrong:
        raise _refused(path, str(wrong), board) from None
    if base.chip != board.chip.id:
        raise _refused(path, f"it is for the {base.chip}", board)
    if not runs_on(base.version):
        version = ".".join(map(str, base.version))
        raise _refused(path, f"it is MicroPython {version}, and the modules run on {BASE}", board)
    return base


class _Wrong(ValueError):
    """What is wrong with an image, in words."""


def _refused(path: Path, what: str, board: Board) -> Refused:
    kind = "uf2" if board.chip.port == "rp2" else "bin"
    return Refused(
        f"{shown(path)} is no base image for {board.id}: {what}",
        f"the vendor's MicroPython image for the {board.chip.title}, a .{kind} file, version {BASE}",
    )


def runs_on(version: tuple[int, int, int]) -> bool:
    for bound in BASE.split(","):
        limit = tuple(int(number) for number in bound.lstrip("<>=").split("."))
        if (bound[0] == ">" and version < limit) or (bound[0] == "<" and version >= limit):
            return False
    return True


def _form(raw: bytes) -> str:
    """Which of the forms these bytes have, by what they begin with."""
    if raw[:2] == b"\x1f\x8b":
        raise _Wrong("it is an update package, which goes onto a device that runs already")
    if len(raw) > 4096 and set(raw[:4096]) == {0xFF}:
        raise _Wrong("it begins with erased flash, as an image that was combined already does")
    if _LITTLE in raw[:64]:
        raise _Wrong("it is a data partition, without the vendor's program")
    if raw[:4] == struct.pack("<I", UF2_MAGIC):
        return "uf2"
    if raw[:1] == bytes([IMAGE]) and len(raw) > 64:
        entry, first = struct.unpack_from("<4xII", raw)
        return "esp8266" if entry >> 20 == 0x401 and first >> 20 in (0x3FF, 0x401) else "esp32"
    raise _Wrong("it is neither a flash image nor a UF2 file")


def _version(data: bytes) -> tuple[int, int, int]:
    match = _BANNER.search(data)
    if not match:
        raise _Wrong("there is no MicroPython in it")
    major, minor, patch = (int(group or 0) for group in match.groups())
    return major, minor, patch


def _segments(raw: bytes, at: int, head: int) -> int:
    """The end of the segments of the program at `at`, whose header has `head` bytes; they must be whole."""
    if at + head > len(raw) or raw[at] != IMAGE:
        raise _Wrong(f"there is no program at {at:#x}")
    end, check = at + head, 0xEF
    for _ in range(raw[at + 1]):
        if end + 8 > len(raw):
            raise _Wrong("it is cut short")
        (size,) = struct.unpack_from("<4xI", raw, end)
        end += 8 + size
        if end > len(raw):
            raise _Wrong("it is cut short")
        for byte in raw[end - size : end]:
            check ^= byte
    end += 16 - (end - at) % 16
    if end > len(raw):
        raise _Wrong("it is cut short")
    if raw[end - 1] != check:
        raise _Wrong("it is damaged: a checksum is wrong")
    return end


def _hashed(raw: bytes, at: int) -> int:
    """The end of an ESP32 program, its SHA-256 checked where it has one."""
    end = _segments(raw, at, 24)
    if not raw[at + 23]:
        return end
    if hashlib.sha256(raw[at:end]).digest() != raw[end : end + 32]:
        raise _Wrong("it is cut short or damaged: its SHA-256 is wrong")
    return end + 32


def _esp32(raw: bytes, board: Board) -> Base:
    (number,) = struct.unpack_from("<H", raw, 12)
    chip = CHIPS.get(number)
    if chip is None:
        raise _Wrong(f"it is for a chip with the id {number}, which is not known here")
    at = BOOT_AT.get(chip, 0)
    _hashed(raw, 0)
    rows = _partitions(raw[TABLE_AT - at :])
    programs = [(offset, size) for kind, offset, size, _ in rows if kind == 0]
    if not programs:
        raise _Wrong("it has no partition table: only the program, without what starts it")
    if raw[TABLE_AT - at + BLOCK :].find(_LITTLE, programs[0][1]) >= 0:
        raise _Wrong("it was combined with a data partition already")
    _hashed(raw, programs[0][0] - at)
    named = [(offset, size) for _, offset, size, label in rows if label in (b"vfs", b"ffat")]
    end = max(offset + size for _, offset, size, _ in rows)
    place = named[0] if named else (end, board.flash - end)
    if sum(place) > board.flash or place[1] <= 0:
        raise _Wrong(
            f"the partitions of the image end at {max(end, sum(place)) / 1048576:g} MiB, and the board has {board.flash / 1048576:g} MiB of flash"
        )
    return Base(chip, _version(raw), at, raw, place)


def _partitions(table: bytes) -> list[tuple[int, int, int, bytes]]:
    """Kind, offset, size and label of each partition."""
    rows: list[tuple[int, int, int, bytes]] = []
    for at in range(0, min(len(table), 0xC00), 32):
        magic, kind, _, offset, size, label = struct.unpack_from("<2sBBII16s", table, at)
        if magic != PARTITION:
            if magic == SUMS and hashlib.md5(table[:at]).digest() != table[at + 16 : at + 32]:
                raise _Wrong("its partition table is damaged")
            break
        rows.append((kind, offset, size, label.rstrip(b"\0")))
    return rows


def _esp8266(raw: bytes, board: Board) -> Base:
    at, size = board.partition
    if len(raw) > at:
        combined = _LITTLE in raw[at : at + 64]
        raise _Wrong(
            "it was combined with a data partition already"
            if combined
            else f"it has {len(raw) // 1024} KiB, and its data partition would begin at {at // 1024}: it is for more flash"
        )
    if board.flash > 1 << 20 and len(raw) <= board.chip.image_1mib - BLOCK and b"FLASH_1M" in raw:
        raise _Wrong("it is for a flash of 1 MiB")
    _segments(raw, 0, 8)
    return Base("esp8266", _version(raw), 0, raw, (at, size))


def _uf2(raw: bytes, board: Board) -> Base:
    flash = uf2_memory(raw)
    data_area = _block_device(flash)
    if data_area and sum(data_area) > board.flash:
        raise _Wrong(f"its data partition ends at {sum(data_area) // 1024} KiB, beyond the board's flash")
    if data_area and any(at >= data_area[0] for at in (len(flash) - 1,)):
        raise _Wrong("it was combined with a data partition already")
    return Base("rp2040", _version(flash), 0, flash, data_area)


def uf2_memory(raw: bytes) -> bytes:
    """The flash that a UF2 file for the RP2040 writes, from its beginning; what it leaves out is erased."""
    if len(raw) % UF2_BLOCK:
        raise _Wrong("it is cut short")
    memory = bytearray()
    seen: set[int] = set()
    total = 0
    for start in range(0, len(raw), UF2_BLOCK):
        one, two, flags, address, size, number, total, family = struct.unpack_from("<8I", raw, start)
        if (one, two) != (UF2_MAGIC, UF2_SECOND) or raw[start + 508 : start + 512] != struct.pack(
            "<I", UF2_END
        ):
            raise _Wrong("it is damaged: a block is none")
        if flags & 0x2000 and family != RP2040_FAMILY:
            raise _Wrong(f"it is a UF2 file for another family of chips ({family:#010x})")
        at = address - RP2040_FLASH
        if not 0 <= at < 1 << 24 or size > 476:
            raise _Wrong(f"it writes at {address:#x}, which is no flash")
        memory.extend(b"\xff" * (at + size - len(memory)))
        memory[at : at + size] = raw[start + 32 : start + 32 + size]
        seen.add(number)
    if len(seen) < total:
        raise _Wrong(f"it is cut short: {len(seen)} of {total} blocks")
    return bytes(memory)


def _block_device(flash: bytes) -> tuple[int, int] | None:
    """Where the image says its data partition is: the block device of its binary information."""

    def word(address: int) -> int:
        return struct.unpack_from("<I", flash, address - RP2040_FLASH)[0]

    head = flash.find(struct.pack("<I", 0x7188EBF2), 0, 0x1000)
    if head < 0:
        return None
    try:
        first, last = struct.unpack_from("<4xII", flash, head)
        for place in range(first, last, 4):
            entry = word(place) - RP2040_FLASH
            kind, _ = struct.unpack_from("<HH", flash, entry)
            if kind == 7:
                _, address, size = struct.unpack_from("<4xIII", flash, entry)
                name = word(RP2040_FLASH + entry + 4) - RP2040_FLASH
                if flash[name : name + 11] == b"MicroPython":
                    return address - RP2040_FLASH, size
    except struct.error:
        return None
    return None


FLASH_MODES = {"qio": 0, "qout": 1, "dio": 2, "dout": 3}
"""Byte 2 of an image's header: how many lines the flash is read on."""
FLASH_SIZES = {1 << 19: 0, 1 << 18: 1, 1 << 20: 2, 1 << 21: 3, 1 << 22: 4, 1 << 23: 8, 1 << 24: 9}
"""The upper half of byte 3 of an ESP8266 image's header: the flash's bytes, by which the SDK and the file system go."""


def configured(base: Base, board: Board) -> bytes:
    """The image with the board's flash in its header, where the chip starts by that.

    The vendor's ESP8266 file serves every size, so its header says none of them for sure; no checksum covers these bytes.
    """
    if base.chip != "esp8266":
        return base.data
    mode, size = FLASH_MODES[board.flash_mode], FLASH_SIZES.get(board.flash)
    if size is None:
        raise Refused(
            f"an ESP8266 cannot start from a flash of {board.flash / 1048576:g} MiB",
            f"flash of the board: one of {', '.join(map(str, FLASH_SIZES))}",
        )
    return base.data[:2] + bytes([mode, size << 4 | base.data[3] & 0x0F]) + base.data[4:]


_READERS: dict[str, Callable[[bytes, Board], Base]] = {"esp32": _esp32, "esp8266": _esp8266, "uf2": _uf2}
