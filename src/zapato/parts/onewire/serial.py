"""Serial numbers of chips on a one-wire bus: the key of a table, and one for a chip whose file gives none."""

from __future__ import annotations

import hashlib
import re

from zapato.lang.fields import Field, Wrong
from zapato.parts.onewire.part import crc8


def serial_field(family: int) -> Field:
    """The key for the serial number of a chip of this family."""

    def read(value: object) -> str:
        if not isinstance(value, str) or not re.fullmatch(r"[0-9a-fA-F]{16}", value):
            raise Wrong("takes the 16 hexadecimal digits that the scan in the log shows")
        number = bytes.fromhex(value)
        if crc8(number):
            raise Wrong(
                "has a check byte, its last two digits, that does not fit the others",
                "look for a typing mistake",
            )
        if number[0] != family:
            raise Wrong(
                f"begins with {number[0]:02x}, the family of another chip; this one's begin with {family:02x}"
            )
        return value.lower()

    words = "its serial number, for a chip on a one-wire bus; the scan in the log shows it"
    return Field("serial", read, {"type": "string", "pattern": "^[0-9a-fA-F]{16}$"}, words, None)


def number_of(serial: str, name: str, family: int) -> bytes:
    """The serial number as written, or one of this family made of the part's name."""
    if serial:
        return bytes.fromhex(serial)
    body = bytes((family,)) + hashlib.sha256(name.encode()).digest()[:6]
    return body + bytes((crc8(body),))
