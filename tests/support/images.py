"""Base images and built devices."""

import hashlib
import struct

from conftest import HEADER
from support.over_air import KEY, LAMP

import zapato
from zapato.boards import board as board_named
from zapato.firmware.base import RP2040_FLASH
from zapato.firmware.first import _uf2

BANNER = b"MicroPython v1.27.0 on 2026-01-01; board with chip\0"


SITE = '[site]\nname = "refuge"\n[wifi]\nname = "hall"\npassword = "larch and stone"\n[mqtt]\nhost = "192.168.4.2"\n'


def program(payload: bytes, chip: int | None, *, hashed: bool = True) -> bytes:
    """A flash program as the vendors' documents have it; `chip` None is the older form, of the ESP8266."""
    payload += b"\0" * (-len(payload) % 4)
    head = bytes([0xE9, 1, 2, 0x20]) + struct.pack("<I", 0x40100004 if chip is None else 0x40081000)
    if chip is not None:
        head += bytes([0xEE, 0, 0, 0]) + struct.pack("<H", chip) + bytes(9) + bytes([int(hashed)])
    body = head + struct.pack("<II", 0x40100000 if chip is None else 0x3F400020, len(payload)) + payload
    check = 0xEF
    for byte in payload:
        check ^= byte
    body += b"\0" * (15 - len(body) % 16) + bytes([check])
    return body + (hashlib.sha256(body).digest() if hashed and chip is not None else b"")


def table(*rows: tuple[int, int, int, bytes]) -> bytes:
    made = b"".join(
        struct.pack("<2sBBII16sI", b"\xaa\x50", kind, 0, at, size, label, 0) for kind, at, size, label in rows
    )
    made += b"\xeb\xeb" + b"\xff" * 14 + hashlib.md5(made).digest()
    return made.ljust(0xC00, b"\xff")


def base_of(board: str, *, banner: bytes = BANNER, rows=((0, 0x10000, 0x1F0000, b"factory"),)) -> bytes:
    """A vendor's image of the form that this board's chip takes, with little in it."""
    chip = board_named(board).chip.id
    text = banner + bytes(range(256)) * 40
    if chip == "esp8266":
        return program(text, None)
    if chip == "rp2040":
        words = struct.pack("<5I", 0x7188EBF2, RP2040_FLASH + 0x200, RP2040_FLASH + 0x204, 0, 0xE71AA390)
        flash = (b"\0" * 0x100 + words).ljust(0x200, b"\0") + struct.pack("<I", RP2040_FLASH + 0x210)
        flash = flash.ljust(0x210, b"\0") + struct.pack(
            "<HHIIIIH", 7, 0x504D, RP2040_FLASH + 0x240, RP2040_FLASH + 0x12C000, 0xD4000, 0, 0
        )
        return _uf2([(0, flash.ljust(0x240, b"\0") + b"MicroPython\0" + text)])
    number = {"esp32": 0, "esp32c3": 5}[chip]
    at = 0x1000 if chip == "esp32" else 0
    head = program(b"boot", number).ljust(0x8000 - at, b"\xff") + table(*rows)
    return head.ljust(0x10000 - at, b"\xff") + program(text, number)


def built(put, board: str, base: bytes | None = None):
    body = HEADER.format(board=board) + (
        LAMP.replace("14", "4" if "esp8266" not in board else "2" if "8pin" in board else "14")
    ).format(after="9s")
    path = put({"site.toml": SITE, "device.toml": body, "secrets.toml": f'[update_keys]\nbench = "{KEY}"\n'})
    under = None
    if base is not None:
        under = path.parent / "base.img"
        under.write_bytes(base)
    return zapato.build(path, path.parent / "out", base=under), path
