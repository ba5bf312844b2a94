"""Which bytes of an answer are what: "{t:u16} {crc8} {h:u16} {crc8}".

A piece is a fixed byte in two hexadecimal digits, `??` for any byte, a field, or `{crc8}`: the check byte of what stands since the last
one (polynomial 0x31, begun with 0xff: Sensirion, "CRC checksum calculation"). A field is `{name:type}`: u8 s8 u16 s16 u24 s24 u32 s32, the
high byte first; with `le` behind it the low byte first.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field

from zapato.lang.fields import Wrong

_FIELD = re.compile(r"\{([a-z_][a-z0-9_]*):([us])(8|16|24|32)(le)?\}")
LONGEST = 32
"""Bytes of an answer at the most."""


@dataclass(frozen=True)
class Slot:
    """A field: where it begins, its bytes, whether it has a sign, whether the low byte comes first."""

    name: str
    at: int
    width: int
    signed: bool
    little: bool

    @property
    def low(self) -> int:
        return -(1 << self.width * 8 - 1) if self.signed else 0

    @property
    def high(self) -> int:
        return (1 << self.width * 8 - self.signed) - 1


@dataclass
class Layout:
    """An answer: its length, its fixed bytes by place, its fields, and the check bytes: from where to where each goes."""

    size: int = 0
    fixed: dict[int, int] = field(default_factory=dict[int, int])
    slots: dict[str, Slot] = field(default_factory=dict[str, Slot])
    checks: list[tuple[int, int]] = field(default_factory=list[tuple[int, int]])

    def read(self, data: bytes) -> dict[str, int] | None:
        """The fields of an answer; None where it is another, or damaged."""
        if len(data) != self.size or any(data[at] != byte for at, byte in self.fixed.items()):
            return None
        if any(crc8(data[begin:end]) != data[end] for begin, end in self.checks):
            return None
        return {
            each.name: int.from_bytes(data[each.at : each.at + each.width], "little" if each.little else "big", signed=each.signed)
            for each in self.slots.values()
        }  # fmt: skip

    def make(self, values: Mapping[str, int]) -> bytes:
        """The answer with these fields."""
        made = bytearray(self.size)
        for at, byte in self.fixed.items():
            made[at] = byte
        for each in self.slots.values():
            raw = min(max(values.get(each.name, 0), each.low), each.high)
            made[each.at : each.at + each.width] = raw.to_bytes(
                each.width, "little" if each.little else "big", signed=each.signed
            )
        for begin, end in self.checks:
            made[end] = crc8(bytes(made[begin:end]))
        return bytes(made)


def crc8(data: bytes) -> int:
    crc = 255
    for byte in data:
        crc ^= byte
        for _ in range(8):
            crc = (crc << 1 ^ 0x31 if crc & 128 else crc << 1) & 255
    return crc


def read_layout(text: str) -> Layout:
    """The layout that a text writes. Raises Wrong."""
    found, since = Layout(), 0
    for piece in text.split():
        if piece == "??":
            found.size += 1
        elif re.fullmatch("[0-9a-fA-F]{2}", piece):
            found.fixed[found.size] = int(piece, 16)
            found.size += 1
        elif piece == "{crc8}":
            found.checks.append((since, found.size))
            found.size += 1
            since = found.size
        elif given := _FIELD.fullmatch(piece):
            name, sign, bits, little = given.groups()
            if name in found.slots:
                raise Wrong(f'has "{name}" twice')
            found.slots[name] = Slot(name, found.size, int(bits) // 8, sign == "s", bool(little))
            found.size += int(bits) // 8
        else:
            raise Wrong(
                f'has "{piece}"',
                "bytes are 3f, ?? or a field such as {t:u16} {raw:s16le}, a check byte is {crc8}",
            )
    if not 0 < found.size <= LONGEST:
        raise Wrong(f"is {found.size} bytes; an answer has 1 to {LONGEST}")
    return found
