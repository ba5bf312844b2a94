"""Stand-ins for the chips on buses, one module a chip: its registers as its datasheet has them.

A module has a class `Chip`, made with a function that gives what the chip feels by name; `write`
and `read` are the bytes of one transfer after the address.
"""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module
from typing import Any, Protocol

from zapato import extensions
from zapato.parts.chip_files import described_names
from zapato.parts.described.catalogue import description

Feel = Callable[[str], Any]
"""Gives the quantity of this name at this moment; None where nothing was ever set."""


class BusChip(Protocol):
    """A chip on an I2C bus."""

    def write(self, data: bytes) -> None: ...

    def read(self, size: int) -> bytes: ...


class Measuring:
    """A chip that takes its time: what it measures is there after so many ms, by its datasheet's longest."""

    now: Callable[[], float] = staticmethod(lambda: 0.0)
    """The moment in ms; the board puts its clock here."""
    _until = 0.0
    _then: Callable[[], None] | None = None

    def begin(self, ms: float, then: Callable[[], None]) -> None:
        """A measurement begins; `then` puts its result where it is read."""
        self._until, self._then = self.now() + ms, then

    @property
    def busy(self) -> bool:
        """Whether it still measures; what it has measured is put where it is read."""
        if self._then and self.now() >= self._until:
            then, self._then = self._then, None
            then()
        return self._then is not None


class SpiExchange:
    """A chip with registers on SPI: while it is selected, the first byte names a register, bit 7 set to read it."""

    def __init__(self, chip: BusChip) -> None:
        self._chip, self._register = chip, -1

    def end(self) -> None:
        """The select line moved."""
        self._register = -1

    def move(self, sent: bytes) -> bytes:
        """What comes in while these bytes go out."""
        if self._register < 0:
            first, sent = sent[0], sent[1:]
            self._register = first
            return b"\xff" + (self.move(sent) if sent else b"")
        register = self._register | 0x80
        if self._register & 0x80:
            self._chip.write(bytes((register,)))
            self._register = (register + len(sent)) & 0xFF
            return self._chip.read(len(sent))
        self._chip.write(bytes((register,)) + sent)
        return b"\xff" * len(sent)


def stand_in(name: str, feel: Feel) -> BusChip:
    """The stand-in for the chip of this name."""
    bundle = extensions.bundles().get(name)
    if bundle and bundle.has("sim.py"):
        return bundle.member("sim", "Chip")(feel)
    if name in described_names():
        from zapato.stage.chips.described import Chip

        return Chip(description(name), feel)
    return import_module(f"zapato.stage.chips.{name}").Chip(feel)
