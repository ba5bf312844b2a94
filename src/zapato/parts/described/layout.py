"""Which bytes of an answer are what: "{t:u16} {crc8} {h:u16} {crc8}".

A piece is a fixed byte in two hexadecimal digits, `??` for any byte, a field, or `{crc8}`: the check byte of what stands since the last
one (polynomial 0x31, begun with 0xff: Sensirion, "CRC checksum calculation"); `{crc8:07/00}` has another polynomial and beginning,
`{crc8:low}` is that of one-wire chips. A field is written as in frames (`lang/patterns`), without a scale.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import field

from zapato.lang.fields import Wrong
from zapato.lang.patterns import Slot, read_slot
from zapato.parts.onewire.part import crc8 as low_crc8
from zapato.record import record
from zapato.regex import regex

LONGEST = 32
"""Bytes of an answer at the most."""


@record(frozen=True)
class CheckByte:
    """A check byte at `end` over the bytes from `begin` on: CRC-8, the high bit first, not inverted at its end; `low`: as one-wire chips have it."""

    begin: int
    end: int
    polynomial: int = 0x31
    first: int = 0xFF
    low: bool = False

    def of(self, data: bytes) -> int:
        """The byte that belongs to these bytes of a whole answer."""
        held = data[self.begin : self.end]
        return low_crc8(held) if self.low else crc8(held, self.polynomial, self.first)


@record
class Layout:
    """An answer: its length, its fixed bytes by place, its fields, and its check bytes."""

    size: int = 0
    fixed: dict[int, int] = field(default_factory=dict[int, int])
    slots: dict[str, Slot] = field(default_factory=dict[str, Slot])
    checks: list[CheckByte] = field(default_factory=list[CheckByte])

    def read(self, data: bytes) -> dict[str, int] | None:
        """The fields of an answer; None where it is another, or damaged."""
        if len(data) != self.size or any(data[at] != byte for at, byte in self.fixed.items()):
            return None
        if any(check.of(data) != data[check.end] for check in self.checks):
            return None
        return {slot.name: int(slot.value(data)) for slot in self.slots.values()}

    def make(self, values: Mapping[str, int]) -> bytes:
        """The answer with these fields."""
        made = bytearray(self.size)
        for at, byte in self.fixed.items():
            made[at] = byte
        for slot in self.slots.values():
            made[slot.at : slot.at + slot.width] = slot.bytes(values.get(slot.name, 0))
        for check in self.checks:
            made[check.end] = check.of(bytes(made))
        return bytes(made)


_CHECK = regex(r"\{crc8(?::(low)|:([0-9a-fA-F]{2})/([0-9a-fA-F]{2}))?\}")


def crc8(data: bytes, polynomial: int = 0x31, first: int = 0xFF) -> int:
    crc = first
    for byte in data:
        crc ^= byte
        for _ in range(8):
            crc = (crc << 1 ^ polynomial if crc & 128 else crc << 1) & 255
    return crc


def read_layout(text: str) -> Layout:
    """The layout that a text writes. Raises Wrong."""
    layout, since = Layout(), 0
    for piece in text.split():
        if piece == "??":
            layout.size += 1
        elif re.fullmatch("[0-9a-fA-F]{2}", piece):
            layout.fixed[layout.size] = int(piece, 16)
            layout.size += 1
        elif check := _CHECK.fullmatch(piece):
            low, *digits = check.groups()
            kind = (int(byte, 16) for byte in digits if byte)
            layout.checks.append(CheckByte(since, layout.size, *kind, low=bool(low)))
            layout.size += 1
            since = layout.size
        else:
            slot = read_slot(piece, layout.size)
            if slot.name in layout.slots:
                raise Wrong(f'has "{slot.name}" twice')
            if slot.truth or slot.scale != 1 or slot.shift:
                raise Wrong(
                    f'has "{piece}"', "a field is a plain number here; its formula stands in [value.NAME]"
                )
            layout.slots[slot.name] = slot
            layout.size += slot.width
    if not 0 < layout.size <= LONGEST:
        raise Wrong(f"is {layout.size} bytes; an answer has 1 to {LONGEST}")
    return layout
