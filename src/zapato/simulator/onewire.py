"""A one-wire line and what hangs on it (DS18B20 datasheet, ROM Commands)."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import field
from typing import Protocol

from zapato.record import record

SKIP, MATCH = 0xCC, 0x55


class WireChip(Protocol):
    """A chip on the line; `ails` is "silent", "garbage" or ""."""

    ails: str

    def power_on(self) -> None: ...

    def addressed(self) -> None:
        """It was chosen after a reset."""
        ...

    def write(self, byte: int) -> None: ...

    def read(self) -> int: ...


@record
class WireLine:
    """What hangs on one line, by serial number, and how far the master's talk has come."""

    chips: dict[bytes, WireChip] = field(default_factory=dict[bytes, WireChip])
    talk: bytearray = field(default_factory=bytearray)
    chosen: list[WireChip] = field(default_factory=list[WireChip])
    failing: dict[bytes, str] = field(default_factory=dict[bytes, str])

    def add(self, number: bytes, make: Callable[[], WireChip]) -> None:
        """A chip of this number is there; what befell it before it felt anything holds."""
        if number not in self.chips:
            chip = self.chips[number] = make()
            chip.ails = self.failing.get(number, "")

    def befall(self, number: bytes, word: str) -> None:
        """The chip of this number fails, or works again."""
        self.failing[number] = word
        if number in self.chips:
            self.chips[number].ails = word

    def power_on(self) -> None:
        for chip in self.chips.values():
            chip.power_on()

    def reset(self) -> bool:
        """True where anybody is there."""
        self.talk.clear()
        self.chosen = []
        return any(chip.ails != "silent" for chip in self.chips.values())

    def write(self, byte: int) -> None:
        self.talk.append(byte)
        if bytes(self.talk) == bytes((SKIP,)):
            self._choose(self.chips.values())
        elif len(self.talk) == 9 and self.talk[0] == MATCH:
            chip = self.chips.get(bytes(self.talk[1:]))
            self._choose([chip] if chip else [])
        else:
            for chip in self.chosen:
                chip.write(byte)

    def _choose(self, chips: Iterable[WireChip]) -> None:
        self.chosen = [chip for chip in chips if chip.ails != "silent"]
        for chip in self.chosen:
            chip.addressed()

    def read(self) -> int:
        """The next byte: where several talk, a low bit wins; where nobody does, the pull-up does."""
        value = 0xFF
        for chip in self.chosen:
            value &= chip.read()
        return value
