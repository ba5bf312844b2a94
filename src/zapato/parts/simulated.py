"""What stand-ins for chips and for what is at a serial line are made of: what they feel, the time they take, the bytes they answer."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from typing import Any, Protocol, runtime_checkable


class Fault(Exception):
    """A call that fails inside the VM with this error number."""

    def __init__(self, number: int) -> None:
        super().__init__(number)
        self.number = number


ReadStimulus = Callable[[str], Any]
"""Gives the quantity of this name at this moment; None where nothing was ever set."""


class VirtualTime(Protocol):
    """Virtual time."""

    @property
    def now(self) -> int:
        """ms since the rehearsal began."""
        ...

    def after(self, ms: int, call: Callable[[], None]) -> None:
        """Call this later."""
        ...


class SerialLine(Protocol):
    """A serial line as who is at its other end sees it."""

    @property
    def clock(self) -> VirtualTime: ...

    @property
    def log(self) -> Callable[[str, str], None]:
        """Takes what is worth a row of the trace: the part, and words."""
        ...

    def answer(self, data: bytes, after: int = 0) -> None:
        """Bytes to the board, in so many ms."""
        ...


class OfferedLine(Protocol):
    """The line at a pin that a chip offers, or that it drives."""

    pull: int | None
    out: int | None
    on_change: Callable[[], None]
    quiet: bool
    """Its edges are too many to be told."""

    @property
    def level(self) -> int: ...

    def hear(self) -> None:
        """What drives it has changed."""
        ...

    def change(self, level: int) -> None:
        """The chip drives it from outside."""
        ...


class ChipBoard(Protocol):
    """The board around a chip that offers pins or shows something."""

    def offered_line(self, gpio: int) -> OfferedLine: ...

    def fault(self, gpio: int, whom: object = None) -> str:
        """What befell a line, or who is on it (an address); "" where nothing did."""
        ...

    def after(self, ms: int, call: Callable[[], None]) -> None:
        """Call this later, in virtual time."""
        ...

    def applied(self, kind: str, gpio: int) -> Any:
        """What is felt at a pin; None where nothing was ever set."""
        ...

    def utc(self) -> datetime:
        """The time of day of the world."""
        ...

    def screen(self, part: str, points: bytes) -> None:
        """A display shows something else."""
        ...


class BusStandIn(Protocol):
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


@runtime_checkable
class SpiStandIn(Protocol):
    """A chip on SPI that is more than registers."""

    def end(self) -> None:
        """The select line moved."""
        ...

    def move(self, sent: bytes) -> bytes:
        """What comes in while these bytes go out."""
        ...


class SpiExchange:
    """A chip with registers on SPI: while it is selected, the first byte names a register, bit 7 set to read it."""

    def __init__(self, chip: BusStandIn) -> None:
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


def crc8(data: bytes) -> int:
    crc = 0xFF
    for byte in data:
        crc ^= byte
        for _ in range(8):
            crc = ((crc << 1) ^ 0x31 if crc & 0x80 else crc << 1) & 0xFF
    return crc


def checked(*words: float) -> bytes:
    """Each word, held to sixteen bits, and its check byte."""
    raw = [max(0, min(65535, round(word))).to_bytes(2, "big") for word in words]
    return b"".join(word + bytes((crc8(word),)) for word in raw)
