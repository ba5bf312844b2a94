"""A one-wire line with its thermometers (DS18B20 datasheet, Memory, ROM and function commands)."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from zapato.parts.onewire import crc8

SKIP, MATCH, CONVERT, READ = 0xCC, 0x55, 0x44, 0xBE
FAMILY = 0x28
POWER_ON = 0x0550
"""85 °C: what stands in the scratchpad until the first conversion."""


def rom_of(serial: str, name: str) -> bytes:
    """The serial number as written, or one made of the part's name."""
    if serial:
        return bytes.fromhex(serial)
    body = bytes((FAMILY,)) + hashlib.sha256(name.encode()).digest()[:6]
    return body + bytes((crc8(body),))


@dataclass
class Thermometer:
    """One chip; `feel` gives degrees."""

    rom: bytes
    feel: Callable[[], Any]
    raw: int = POWER_ON
    scratch: bytes = b""
    ails: str = ""
    """"silent" or "garbage"."""

    def convert(self) -> None:
        self.raw = round((self.feel() or 0) * 16) & 0xFFFF

    def load(self) -> None:
        body = self.raw.to_bytes(2, "little") + b"\x4b\x46\x7f\xff\x0c\x10"
        wrong = 0x5A if self.ails == "garbage" else 0
        self.scratch = body + bytes((crc8(body) ^ wrong,))


@dataclass
class Line:
    """What hangs on one line, and how far the master's talk has come."""

    chips: dict[bytes, Thermometer] = field(default_factory=dict[bytes, Thermometer])
    talk: bytearray = field(default_factory=bytearray)
    chosen: list[Thermometer] = field(default_factory=list[Thermometer])

    def add(self, rom: bytes, feel: Callable[[], Any]) -> None:
        self.chips.setdefault(rom, Thermometer(rom, feel))

    def power_on(self) -> None:
        for each in self.chips.values():
            each.raw = POWER_ON

    def reset(self) -> bool:
        """True where anybody is there."""
        self.talk.clear()
        self.chosen = []
        return any(each.ails != "silent" for each in self.chips.values())

    def write(self, byte: int) -> None:
        self.talk.append(byte)
        if bytes(self.talk) == bytes((SKIP,)):
            self.chosen = [each for each in self.chips.values() if each.ails != "silent"]
        elif len(self.talk) == 9 and self.talk[0] == MATCH:
            found = self.chips.get(bytes(self.talk[1:]))
            self.chosen = [found] if found and found.ails != "silent" else []
        elif self.chosen and byte == CONVERT:
            for each in self.chosen:
                each.convert()
        elif self.chosen and byte == READ:
            for each in self.chosen:
                each.load()

    def read(self) -> int:
        """The next byte: where several talk, a low bit wins; where nobody does, the pull-up does."""
        value = 0xFF
        for each in self.chosen:
            if each.scratch:
                value &= each.scratch[0]
                each.scratch = each.scratch[1:]
        return value
