"""Serial lines of a board: bytes that take their time, a driver for RS-485, and who is at the other end."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol

from zapato import extensions
from zapato.parts.simulation import PeerAt
from zapato.simulator.clock import Clock

LARGEST = 256
"""Bytes that the controller keeps until they are read; what comes beyond is lost."""


class SerialPeer(Protocol):
    """Who is at the other end of a line."""

    def hear(self, data: bytes) -> None:
        """Bytes of the board have arrived."""
        ...

    def put(self, name: str, value: Any, over: int = 0) -> None:
        """The world changes something there."""
        ...

    def read(self, name: str) -> Any:
        """How it stands there."""
        ...

    def do(self, word: str) -> None:
        """Something happens to it."""
        ...

    def close(self) -> None:
        """The rehearsal is over."""
        ...


class Serial:
    """One line, by the pin it is received on; `loud` tells whether the board's driver may send, None without one."""

    def __init__(self, clock: Clock, log: Callable[[str, str], None] = lambda name, words: None) -> None:
        self.clock, self.log = clock, log
        """`log` takes what is worth a row of the trace: the part, and words."""
        self.baud, self.hears, self.bits = 9600, False, 10
        self.peers: list[SerialPeer] = []
        self.loud: Callable[[], bool] | None = None
        self.into = bytearray()
        self.lost = 0
        self.fault = ""
        """What befell the line: "short", "cut", "swap"."""
        self._free = 0
        """When the line towards the board is free again, ms."""
        self._until = 0

    def open(self, baud: int, *, hears: bool, bits: int = 10) -> None:
        """The board's controller takes the line; without a pin to receive on it `hears` nothing."""
        self.baud, self.hears, self.bits = baud, hears, bits
        self.into.clear()

    def shut(self) -> None:
        """The board is dark."""
        self.hears = False
        self.into.clear()

    def takes(self, count: int) -> int:
        """ms of so many bytes, each with its start bit, parity and stop bits."""
        return max(1, round(count * self.bits * 1000 / self.baud))

    @property
    def done(self) -> bool:
        """Whether all that was written is out."""
        return self.clock.now >= self._until

    @property
    def left(self) -> int:
        """us until all that was written is out."""
        return self._until * 1000 - self.clock.now * 1000 - self.clock.micro

    def write(self, data: bytes) -> None:
        """From the board; without the driver's leave nothing reaches the line."""
        self._until = max(self._until, self.clock.now) + self.takes(len(data))
        if self.fault or (self.loud and not self.loud()):
            self.lost += len(data)
            return

        def arrive() -> None:
            for peer in self.peers:
                peer.hear(data)

        self.clock.at(self._until, arrive)

    def answer(self, data: bytes, after: int = 0) -> None:
        """To the board, in two pieces, as it may come; while the board's driver sends, nothing is heard."""
        begin = max(self.clock.now + after, self._free)
        self._free = begin + self.takes(len(data))
        half = len(data) // 2
        if half:
            self.clock.at(begin + self.takes(half), lambda: self._land(data[:half]))
        self.clock.at(self._free, lambda: self._land(data[half:]))

    def _land(self, data: bytes) -> None:
        if self.fault or (self.loud and self.loud()):
            self.lost += len(data)
        else:
            self.came(data)

    def came(self, data: bytes) -> None:
        """Bytes at the board's controller, which keeps so many."""
        room = LARGEST - len(self.into) if self.hears else 0
        self.into.extend(data[:room])
        self.lost += max(0, len(data) - room)

    def read(self, size: int) -> bytes:
        data = bytes(self.into[:size])
        del self.into[:size]
        return data


def peer(at: PeerAt, line: Serial) -> SerialPeer:
    """What a bundle puts at the other end of a line. Raises ZapatoError."""
    bundle = extensions.bundle(at.bundle, "sim.py")
    assert bundle
    return bundle.member("sim", "Peer")(line, *at.given)
