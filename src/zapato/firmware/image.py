"""The data partition as an image: LittleFS v2, with the sizes that each port's own file system has.

Sources: MicroPython, extmod/vfs_lfsx.c (cache of four times the larger of read and program size, lookahead 32, 100
block cycles) and vfs_lfs.c (32 bytes each where nothing is said); ports/esp32/modules/flashbdev.py and main.c (all that is
behind the last partition), ports/esp8266/modules/flashbdev.py (20 KiB at the end are the SDK's), ports/rp2/modules/_boot.py
(programs 256 bytes at once). Disk version 2.0 is read by every release.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from zapato.boards.board import Chip
from zapato.errors import Refused

BLOCK = 4096
UNIT = {"rp2": 256}
"""Bytes programmed at once, where it is not 32."""
VERSION = 0x00020000
SPARE = 16
"""Blocks for what LittleFS keeps of its own."""


def sizes(chip: Chip) -> dict[str, int]:
    """What LittleFS is told on this chip's port."""
    unit = UNIT.get(chip.port, 32)
    return {
        "block_size": BLOCK,
        "read_size": 32,
        "prog_size": unit,
        "cache_size": min(BLOCK, 4 * unit),
        "lookahead_size": 32,
        "block_cycles": 100,
        "disk_version": VERSION,
    }


def data_image(chip: Chip, files: Mapping[str, bytes], folders: Iterable[str], size: int) -> bytes:
    """The first bytes of a data partition of `size` bytes with these files; all that follows is erased flash.

    Raises Refused where they do not fit.
    """
    wanted = [*folders]
    count = sum(-(-len(data) // BLOCK) for data in files.values()) + 2 * len(wanted) + SPARE
    try:
        if count * BLOCK > size:
            raise MemoryError
        return _image(chip, files, wanted, count, size // BLOCK)
    except MemoryError:
        raise Refused(
            f"the files take more than the {size // 1024} KiB of the data partition",
            "zapato check tells how much flash a device needs",
        ) from None


def _image(chip: Chip, files: Mapping[str, bytes], folders: Iterable[str], count: int, full: int) -> bytes:
    """A file system of `count` blocks that knows of the `full` count that it may use."""
    from littlefs import LittleFS, LittleFSError

    made: Any = LittleFS(block_count=count, mount=False, **sizes(chip))  # pyright: ignore[reportArgumentType]
    try:
        made.format()
        made.mount()
        for folder in folders:
            made.mkdir(folder)
        for path, data in sorted(files.items()):
            with made.open(path, "wb") as file:
                file.write(data)
        made.fs_grow(full)
        made.unmount()
    except LittleFSError:
        raise MemoryError from None
    return bytes(made.context.buffer)
