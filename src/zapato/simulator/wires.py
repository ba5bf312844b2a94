"""What everything that carries bytes to and from a board agrees on."""

from __future__ import annotations

from zapato.simulator.files import NoDevice
from zapato.simulator.wasi import Fault

FLIGHT = 8
"""ms that bytes travel, one way."""
READ, WRITE, ERROR, HUNG_UP = 1, 4, 8, 16
"""What poll() says of a socket."""
REFUSED, RESET = 111, 104
STREAM = 1
"""The kind of socket that is a connection."""


class Socket(NoDevice):
    """A socket of the board: a file to the VM. What it cannot do fails.

    Attributes:
        number: by which the program knows it.
        watched: what it wants to hear of.
        flags: what poll() says of it.
    """

    def __init__(self, number: int) -> None:
        self.number = number
        self._watched = 0

    @property
    def watched(self) -> int:
        return self._watched

    @watched.setter
    def watched(self, mask: int) -> None:
        self._watched = mask

    @property
    def flags(self) -> int:
        return 0

    def connect(self, host: str, port: int) -> None:
        raise Fault(REFUSED)

    def send_to(self, data: bytes, port: int) -> None:
        raise Fault(RESET)

    def secure(self, host: str, authority: bytes, verify: bool) -> None:
        raise Fault(REFUSED)

    def accept(self) -> int | None:
        """The number of the connection that waits longest; None where none does."""
        return None

    def vanish(self) -> None:
        """The board is gone; nobody says so."""
