"""The data partition as an image: LittleFS v2, with the sizes that each port's own file system has.

Sources: MicroPython, extmod/vfs_lfsx.c (cache of four times the larger of read and program size, lookahead 32, 100
block cycles) and vfs_lfs.c (32 bytes each where nothing is said); ports/esp32/modules/flashbdev.py and main.c (all that is
behind the last partition), ports/esp8266/modules/flashbdev.py (20 KiB at the end are the SDK's), ports/rp2/modules/_boot.py
(programs 256 bytes at once). Disk version 2.0 is read by every release.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from zapato.boards.model import Chip
from zapato.errors import Refused

BLOCK = 4096
UNIT = {"rp2": 256}
"""Bytes programmed at once, where it is not 32."""
VERSION = 0x00020000


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
    """These files as the bytes of a data partition. Raises Refused where they do not fit."""
    from littlefs import LittleFS, LittleFSError

    made: Any = LittleFS(block_count=size // BLOCK, mount=False, **sizes(chip))
    try:
        made.format()
        made.mount()
        for folder in folders:
            made.mkdir(folder)
        for path, data in sorted(files.items()):
            with made.open(path, "wb") as file:
                file.write(data)
        made.unmount()
    except LittleFSError:
        raise Refused(
            f"the files take more than the {size // 1024} KiB of the data partition",
            "zapato check tells how much the flash has to have",
        ) from None
    return bytes(made.context.buffer)
