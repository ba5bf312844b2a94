"""Sockets of the board that others come to: at its own access point it is the server."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from typing import TYPE_CHECKING

from zapato.simulator.wasi import AGAIN, Fault
from zapato.simulator.wires import FLIGHT, READ, RESET, WRITE, Socket

if TYPE_CHECKING:
    from zapato.simulator.network import Station


class Door(Socket):
    """A socket of the board that listens for connections."""

    def __init__(self, station: Station, number: int) -> None:
        super().__init__(number)
        self.station = station
        self.waiting: deque[Guest] = deque()

    @property
    def flags(self) -> int:
        return READ & self.watched if self.waiting else 0

    def accept(self) -> int | None:
        if not self.waiting:
            return None
        guest = self.waiting.popleft()
        self.station.wires[guest.number] = guest
        return guest.number

    def vanish(self) -> None:
        self.waiting.clear()

    def close(self) -> None:
        self.station.wires.pop(self.number, None)


class Guest(Socket):
    """One connection of a phone: a file to the VM, bytes that travel to the phone and back."""

    def __init__(self, station: Station, number: int, answered: Callable[[bytes | None], None]) -> None:
        super().__init__(number)
        self.station, self.answered = station, answered
        self.into = bytearray()
        self.left = False
        """The phone is gone."""

    @property
    def flags(self) -> int:
        mask = (READ if self.into or self.left else 0) | WRITE
        return mask & self.watched

    def come(self, data: bytes) -> None:
        """Bytes from the phone."""
        self.into += data

    def read(self, size: int) -> bytes:
        if self.into:
            data = bytes(self.into[:size])
            del self.into[:size]
            return data
        if self.left:
            return b""
        raise Fault(AGAIN)

    def write(self, data: bytes) -> int:
        if self.left:
            raise Fault(RESET)
        self.station.air.clock.after(FLIGHT, lambda: self.answered(data))
        return len(data)

    def vanish(self) -> None:
        self.left = True

    def close(self) -> None:
        if self.station.wires.pop(self.number, None):
            self.station.air.clock.after(FLIGHT, lambda: self.answered(None))


class Ear(Socket):
    """A UDP socket of the board that hears what comes to its port."""

    def __init__(self, station: Station, number: int) -> None:
        super().__init__(number)
        self.station = station
        self.came: deque[bytes] = deque()
        self.answered: Callable[[bytes], None] = lambda data: None

    @property
    def flags(self) -> int:
        return READ & self.watched if self.came else 0

    def read(self, size: int) -> bytes:
        if not self.came:
            raise Fault(AGAIN)
        return self.came.popleft()[:size]

    def send_to(self, data: bytes, port: int) -> None:
        """To the phone that asked."""
        answered = self.answered
        self.station.air.clock.after(FLIGHT, lambda: answered(data))

    def vanish(self) -> None:
        self.came.clear()

    def close(self) -> None:
        self.station.wires.pop(self.number, None)
