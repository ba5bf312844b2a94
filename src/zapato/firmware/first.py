"""The whole flash of a new device: the vendor's image and the data partition, each at its place.

Source of the UF2 form: UF2 specification (512-byte blocks, 256 bytes of payload, family id).
"""

from __future__ import annotations

import struct

from zapato.boards.board import Board
from zapato.errors import Refused
from zapato.firmware.base import (
    RP2040_FAMILY,
    RP2040_FLASH,
    UF2_END,
    UF2_MAGIC,
    UF2_SECOND,
    Base,
    configured,
)

PAYLOAD = 256
ERASED = b"\xff"


def data_place(board: Board, base: Base | None = None) -> tuple[int, int]:
    """Where the data partition begins in the flash, and its bytes: as the base image says, else as the port has it."""
    return base.partition if base and base.partition else board.partition


def first_image(board: Board, base: Base, data: bytes) -> bytes:
    """Base and data as one: the flash from its beginning, or a UF2 file that writes it."""
    at, size = data_place(board, base)
    if len(data) > size:
        raise Refused(
            f"the data take {len(data) // 1024} KiB, and the base leaves {size // 1024}",
            "a board with more flash",
        )
    if base.at + len(base.data) > at:
        raise Refused("the base reaches into its own data partition", "another base image")
    if board.chip.port == "rp2":
        return _uf2([(0, base.data), (at, data)])
    head = ERASED * base.at + configured(base, board)
    return head.ljust(at, ERASED) + data


def _uf2(pieces: list[tuple[int, bytes]]) -> bytes:
    blocks = [
        (RP2040_FLASH + start + at, data[at : at + PAYLOAD].ljust(PAYLOAD, ERASED))
        for start, data in pieces
        for at in range(0, len(data), PAYLOAD)
    ]
    return b"".join(
        struct.pack(
            "<8I", UF2_MAGIC, UF2_SECOND, 0x2000, address, PAYLOAD, number, len(blocks), RP2040_FAMILY
        )
        + data.ljust(476, b"\0")
        + struct.pack("<I", UF2_END)
        for number, (address, data) in enumerate(blocks)
    )
