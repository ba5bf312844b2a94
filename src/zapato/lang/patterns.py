"""Patterns of serial frames: the bytes that are always the same, fields with their scale, and a check sum.

"55 aa {on:bool} {level:u16*10} {sum}" is six bytes: two fixed ones, one for a truth, two for a number that is sent times
ten (the high byte first), and the sum of all before it. `??` is a byte that may be anything.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import field

from zapato.lang.fields import Wrong
from zapato.record import record
from zapato.regex import regex

LONGEST = 64
"""Bytes of a frame at the most."""
CHECKS = {"sum": 1, "negsum": 1, "xor": 1, "sum16": 2, "crc16": 2}
"""Check sums over everything before them, and their bytes: the sum; what makes it zero; exclusive or; the sum in two bytes, the high one first; CRC-16 with 0xA001, the low byte first (Modbus over Serial Line V1.02, 6.2.2)."""
_TYPES = {"bool": 1, "u8": 1, "s8": 1, "u16": 2, "s16": 2, "u24": 3, "s24": 3, "u32": 4, "s32": 4}
_PIECE = regex(r"\{[^{}]*\}|\S+")
_FIELD = regex(
    r"\{([a-z_]\w*):(bool|[us](?:8|16|24|32))(le)?(?:([*/])(-?\d+(?:\.\d+)?))?([+-]\d+(?:\.\d+)?)?\}"
)


@record(frozen=True)
class Slot:
    """A field in a frame: where, how wide, and raw = value * scale + shift."""

    name: str
    at: int
    width: int
    signed: bool
    little: bool
    scale: float
    shift: float
    truth: bool

    @property
    def low(self) -> int:
        """The least number that its width can have."""
        return -(1 << self.width * 8 - 1) if self.signed else 0

    @property
    def high(self) -> int:
        """The most."""
        return (1 << self.width * 8 - self.signed) - 1

    def bytes(self, value: float) -> bytes:
        """The value as it is sent, held to what the width can have."""
        raw = round(value * self.scale + self.shift)
        return min(max(raw, self.low), self.high).to_bytes(
            self.width, "little" if self.little else "big", signed=self.signed
        )

    def value(self, data: bytes) -> float | bool:
        """The value in the bytes of a frame."""
        piece = data[self.at : self.at + self.width]
        raw = int.from_bytes(piece, "little" if self.little else "big", signed=self.signed)
        if self.truth:
            return raw != 0
        number = (raw - self.shift) / self.scale
        return int(number) if number == int(number) else round(number, 6)


@record(frozen=True)
class Pattern:
    """A frame: its fixed bytes, a mask that is 0 where anything may stand, its fields, its check sum and where."""

    text: str
    fixed: bytes
    mask: bytes
    slots: tuple[Slot, ...] = ()
    check: str = ""
    check_at: int = 0

    def __len__(self) -> int:
        return len(self.fixed)

    def make(self, values: Mapping[str, float], skip: int = 0) -> bytes:
        """The frame with these values; a field that has none is zero. `skip` bytes are not in the check sum."""
        made = bytearray(self.fixed)
        for slot in self.slots:
            made[slot.at : slot.at + slot.width] = slot.bytes(float(values.get(slot.name, 0)))
        if self.check:
            made[self.check_at : self.check_at + CHECKS[self.check]] = checksum(
                self.check, bytes(made[skip : self.check_at])
            )
        return bytes(made)

    def read(self, data: bytes, skip: int = 0) -> dict[str, float | bool] | None:
        """The values of a frame; None where it is another, or damaged."""
        if len(data) != len(self) or any(
            (a ^ b) & m for a, b, m in zip(data, self.fixed, self.mask, strict=True)
        ):
            return None
        if self.check:
            checksum_bytes = data[self.check_at : self.check_at + CHECKS[self.check]]
            if checksum_bytes != checksum(self.check, data[skip : self.check_at]):
                return None
        return {slot.name: slot.value(data) for slot in self.slots}

    @property
    def plain(self) -> tuple[object, ...]:
        """What the device is given: fixed bytes, mask, fields, check sum and where."""
        slots = tuple(
            (s.name, s.at, s.width, s.signed, s.little, s.scale, s.shift, s.truth) for s in self.slots
        )
        return self.fixed, self.mask, slots, self.check, self.check_at


@record
class _Reading:
    fixed: bytearray = field(default_factory=bytearray)
    mask: bytearray = field(default_factory=bytearray)
    slots: list[Slot] = field(default_factory=list[Slot])
    check: str = ""
    check_at: int = 0

    def more(self, fixed: bytes, mask: int) -> int:
        at = len(self.fixed)
        self.fixed += fixed
        self.mask += bytes((mask,)) * len(fixed)
        return at


def read_pattern(text: str) -> Pattern:
    """The pattern that a text writes. Raises Wrong."""
    reading = _Reading()
    for piece in _PIECE.findall(text):
        _piece(reading, piece)
    if not reading.fixed or len(reading.fixed) > LONGEST:
        raise Wrong(f'"{text}" is {len(reading.fixed)} bytes; a frame has 1 to {LONGEST}')
    if not reading.mask[0]:
        raise Wrong(
            f'"{text}" begins with a byte that may have any value',
            "a frame begins with a byte that is always the same",
        )
    return Pattern(
        text, bytes(reading.fixed), bytes(reading.mask), tuple(reading.slots), reading.check, reading.check_at
    )


def _piece(reading: _Reading, piece: str) -> None:
    if piece == "??":
        reading.more(b"\0", 0)
    elif re.fullmatch(r"(?:[0-9a-fA-F]{2})+", piece):
        reading.more(bytes.fromhex(piece), 255)
    elif piece[1:-1] in CHECKS and piece[0] == "{":
        if reading.check:
            raise Wrong("has two check sums")
        reading.check = piece[1:-1]
        reading.check_at = reading.more(bytes(CHECKS[reading.check]), 0)
    else:
        slot = read_slot(piece, len(reading.fixed))
        if any(other.name == slot.name for other in reading.slots):
            raise Wrong(f"has the field {slot.name} twice")
        reading.more(bytes(slot.width), 0)
        reading.slots.append(slot)


def read_slot(piece: str, at: int) -> Slot:
    """The field that a piece writes, its bytes from `at` on. Raises Wrong."""
    given = _FIELD.fullmatch(piece)
    if given is None:
        raise Wrong(
            f"has {piece}, which is no byte and no field",
            "a byte is two hexadecimal digits, ?? any byte, {level:u16*10} a field, {sum} a check sum",
        )
    name, kind, little, sign, factor, shift = given.groups()
    scale = float(factor or 1)
    if not scale:
        raise Wrong(f"has {piece}, a scale of 0")
    scale = 1 / scale if sign == "/" else scale
    return Slot(
        name, at, _TYPES[kind], kind[0] == "s", bool(little), scale, float(shift or 0), kind == "bool"
    )


def checksum(kind: str, data: bytes) -> bytes:
    """The check sum of these bytes."""
    if kind == "crc16":
        return crc16(data).to_bytes(2, "little")
    value = 0
    for byte in data:
        value = value ^ byte if kind == "xor" else value + byte
    if kind == "sum16":
        return (value & 0xFFFF).to_bytes(2, "big")
    return bytes(((-value if kind == "negsum" else value) & 255,))


def crc16(data: bytes) -> int:
    """CRC-16 of Modbus (Modbus over Serial Line V1.02, section 6.2.2)."""
    crc = 0xFFFF
    for byte in data:
        crc ^= byte
        for _ in range(8):
            crc = crc >> 1 ^ 0xA001 if crc & 1 else crc >> 1
    return crc
