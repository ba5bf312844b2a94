"""Things that advertise around a board: their bytes, how strongly they are heard, and a radio that listens part of the time."""

from __future__ import annotations

from typing import Any

from zapato.lang.patterns import Pattern
from zapato.simulator.clock import Clock

INTERVAL = 2000
"""ms between two advertisements, about what a battery sensor does."""
STRENGTH = -67
FLAGS = bytes.fromhex("020106")
"""The structure that begins an advertisement (Bluetooth Core Specification Supplement, part A, 1.3)."""
OTHERS: tuple[tuple[str, int, str, str], ...] = (
    ("c0:11:0e:00:00:07", -72, "0303aafe", "Hut scale"),
    ("5a:42:00:13:37:01", -91, "04ff4c5600", ""),
)
"""Others that are heard everywhere: address, dBm, bytes, the name that they tell when they are asked."""
SCAN_RESPONSE = 4
"""The kind of event of an answer to an active scan (Bluetooth Core, Vol 4, part E, 7.7.65.2)."""
COMPLETE_NAME = 9
"""The type of the structure with the whole name (Assigned Numbers, 2.3)."""


class BluetoothAir:
    """Who advertises near one board."""

    def __init__(self, clock: Clock, hear: Any) -> None:
        self.clock, self._hear = clock, hear
        self.listening = self.listened = False
        self.asks = False
        """Whether it scans actively: who is heard is asked for more (Bluetooth Core, Vol 6, part B, 4.4.3.2)."""
        self.share = 1.0
        """Of the time, in which the radio listens: so many of the advertisements it hears."""
        self.beacons: dict[str, Beacon] = {}

    def add(self, address: str, data: tuple[Pattern, ...]) -> None:
        self.beacons[address] = Beacon(self, address, data)

    def listen(self, on: bool, share: float = 1.0, asks: bool = False) -> None:
        """The radio begins to listen for this share of the time, and asks for names, or ends."""
        self.share, self.asks = share, asks
        if on and not self.listening:
            self.listened = True
            for number, beacon in enumerate(
                (
                    *self.beacons.values(),
                    *(
                        Beacon(self, address, (), strength, plain, name)
                        for address, strength, plain, name in OTHERS
                    ),
                )
            ):
                self.clock.after(137 * (number + 1), beacon.speak)
        self.listening = on

    @property
    def notes(self) -> list[str]:
        """What is worth knowing of it: those that nobody declared."""
        if not self.listened:
            return []
        addresses = " and ".join(
            f"{address} ({name or 'without a name'}, {strength} dBm)" for address, strength, _, name in OTHERS
        )
        return [f"two that the device file does not name advertise in every rehearsal: {addresses}"]

    def heard(self, address: str, strength: int, data: bytes, kind: int = 0) -> None:
        """Bytes as the radio gives them: kind of advertisement, address, dBm and 256, data."""
        row = bytes((kind,)) + bytes.fromhex(address.replace(":", "")) + bytes(((strength + 256) & 255,))
        self._hear(row + data)


class Beacon:
    """One of them; what the world says of it goes into its bytes."""

    def __init__(
        self,
        ether: BluetoothAir,
        address: str,
        patterns: tuple[Pattern, ...] = (),
        strength: int | None = None,
        plain: str = "",
        name: str = "",
    ) -> None:
        self.ether, self.address, self.patterns, self.name = ether, address, patterns, name
        self.state: dict[str, Any] = {"near": strength is not None}
        self.strength = STRENGTH if strength is None else strength
        self.plain = bytes.fromhex(plain)
        self.turn = 0
        self.met = 0.0
        """How much of an advertisement has met the radio's open ear."""

    def put(self, name: str, value: Any, over: int = 0) -> None:
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
            self.ether.heard(self.address, self.strength, FLAGS + self._body())
            if self.ether.asks and self.name:
                said = bytes((len(self.name) + 1, COMPLETE_NAME)) + self.name.encode()
                self.ether.heard(self.address, self.strength, said, SCAN_RESPONSE)
        self.ether.clock.after(INTERVAL, self.speak)

    def _body(self) -> bytes:
        """Its structures; of several patterns one after the other has its turn."""
        if not self.patterns:
            return self.plain
        self.turn += 1
        made = self.patterns[self.turn % len(self.patterns)].make(self.state)
        return bytes((len(made),)) + made
