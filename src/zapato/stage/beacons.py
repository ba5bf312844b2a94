"""Things that advertise around a board: their bytes, how strongly they are heard, and a radio that listens part of the time."""

from __future__ import annotations

from typing import Any

from zapato.lang.patterns import Pattern
from zapato.stage.clock import Clock

INTERVAL = 2000
"""ms between two advertisements, about what a battery sensor does."""
STRENGTH = -67
FLAGS = bytes.fromhex("020106")
"""The structure that begins an advertisement (Bluetooth Core Specification Supplement, part A, 1.3)."""
OTHERS = (("c0:11:0e:00:00:07", -72, "0303aafe"), ("5a:42:00:13:37:01", -91, "04ff4c5600"))
"""Others that are heard everywhere: address, dBm, bytes."""


class Ether:
    """Who advertises near one board."""

    def __init__(self, clock: Clock, hear: Any) -> None:
        self.clock, self._hear = clock, hear
        self.listening = False
        self.share = 1.0
        """Of the time, in which the radio listens: so many of the advertisements it hears."""
        self.beacons: dict[str, Beacon] = {}

    def add(self, address: str, data: Pattern | None) -> None:
        self.beacons[address] = Beacon(self, address, data)

    def listen(self, on: bool, share: float = 1.0) -> None:
        """The radio begins to listen for this share of the time, or ends."""
        self.share = share
        if on and not self.listening:
            for number, each in enumerate(
                (*self.beacons.values(), *(Beacon(self, *other) for other in OTHERS))
            ):
                self.clock.after(137 * (number + 1), each.speak)
        self.listening = on

    def heard(self, address: str, strength: int, data: bytes) -> None:
        """Bytes as the radio gives them: kind of address, address, dBm and 256, data."""
        row = b"\x00" + bytes.fromhex(address.replace(":", "")) + bytes(((strength + 256) & 255,))
        self._hear(row + data)


class Beacon:
    """One of them; what the world says of it goes into its bytes."""

    def __init__(
        self, ether: Ether, address: str, data: Pattern | int | None = None, plain: str = ""
    ) -> None:
        self.ether, self.address = ether, address
        self.pattern = data if isinstance(data, Pattern) else None
        self.state: dict[str, Any] = {"near": not self.pattern and data is not None}
        self.strength = data if isinstance(data, int) else STRENGTH
        self.plain = bytes.fromhex(plain)
        self.met = 0.0
        """How much of an advertisement has met the radio's open ear."""

    def put(self, name: str, value: Any) -> None:
        """Something is set; what has a value is near."""
        if name == "strength":
            self.strength = round(value)
        elif name == "near":
            self.state["near"] = bool(value)
        else:
            self.state |= {name: value, "near": True}

    def speak(self) -> None:
        if not self.ether.listening:
            return
        self.met += self.ether.share
        heard, self.met = self.met >= 1, self.met % 1
        if self.state["near"] and heard:
            made = self.pattern.make(self.state) if self.pattern else self.plain
            body = bytes((len(made),)) + made if self.pattern else made
            self.ether.heard(self.address, self.strength, FLAGS + body)
        self.ether.clock.after(INTERVAL, self.speak)
