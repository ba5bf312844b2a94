"""Somebody with a phone at the board's own access point."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping

from zapato.simulator.access import Door, Ear, Guest
from zapato.simulator.clock import Clock
from zapato.simulator.network import Station
from zapato.simulator.wires import FLIGHT

FOLLOWS = 60
"""Seconds for which the page asks how it goes."""
WEB, NAMES = 80, 53
"""Ports of the page, and of who knows names."""


class Phone:
    """Somebody near with a phone. What it asks is told as soon as it is whole; nothing where nobody answers."""

    def __init__(
        self, station: Station, clock: Clock, page: str = "", broker: Mapping[str, object] | None = None
    ) -> None:
        """`page` is what the device's page wants once it has secrets, `broker` what its owner types where it knows none."""
        self.station, self.clock, self.page, self.broker = station, clock, page, broker

    def sees(self) -> tuple[str, str] | None:
        """Name and password of the board's access point, while it is open."""
        return self.station.access

    def send(self, data: bytes, answered: Callable[[bytes], None] = lambda data: None) -> Guest | None:
        """Connect to the page's port and send these bytes; `answered` hears all that came back when it is closed."""
        door = self.station.ports.get(WEB)
        if self.station.access is None or not isinstance(door, Door):
            return None
        answer = bytearray()

        def hear(data: bytes | None) -> None:
            if data is None:
                answered(bytes(answer))
            else:
                answer.extend(data)

        self.station.count += 1
        guest = Guest(self.station, self.station.count, hear)
        self.clock.after(2 * FLIGHT, lambda: door.waiting.append(guest))
        self.clock.after(3 * FLIGHT, lambda: guest.come(data))
        return guest

    def ask(
        self,
        path: str,
        body: Mapping[str, object] | None = None,
        answered: Callable[[bytes], None] = lambda data: None,
    ) -> Guest | None:
        """One request as a browser makes it."""
        text = b"" if body is None else json.dumps(body).encode()
        head = f"{'GET' if body is None else 'POST'} {path} HTTP/1.1\r\nHost: 192.168.4.1\r\n"
        head += f"User-Agent: {'a phone ' * 40}\r\nContent-Length: {len(text)}\r\n"
        if body is not None:
            head += "Content-Type: application/json\r\nOrigin: http://192.168.4.1\r\n"
        head += "\r\n"
        return self.send(head.encode() + text, answered)

    def look_up(self, question: bytes, answered: Callable[[bytes], None]) -> None:
        """Ask the board for a name."""
        ear = self.station.ports.get(NAMES)
        if self.station.access is not None and isinstance(ear, Ear):
            ear.answered = answered
            self.clock.after(FLIGHT, lambda: ear.came.append(question))

    def fill_in(self, name: str, password: str, refused: Callable[[str], None] = lambda words: None) -> None:
        """Read the page's state, keep the broker that it has, give it a network, and ask how it goes, as the page does."""

        def answer(data: bytes) -> None:
            state = json.loads(data.partition(b"\r\n\r\n")[2] or b"{}")
            row: dict[str, object] = {"name": name, "password": password, "page": self.page}
            if broker := state.get("broker"):
                row |= dict(zip(("host", "port", "user"), broker, strict=True))
                row |= self.broker or {} if not broker[0] else {}
            self.ask("/settings", row, said)

        def said(data: bytes) -> None:
            wrong = json.loads(data.partition(b"\r\n\r\n")[2] or b"{}")
            if wrong:
                refused("; ".join(map(str, wrong.values())))
            else:
                self._follow(FOLLOWS, refused)

        self.ask("/state", None, answer)

    def _follow(self, left: int, refused: Callable[[str], None]) -> None:
        """Ask once a second until it is over, or nobody answers."""

        def answer(data: bytes) -> None:
            state = json.loads(data.partition(b"\r\n\r\n")[2] or b"{}")
            if state.get("state") == "failed":
                refused(state["why"])
            elif left and state.get("state") == "joining":
                self.clock.after(1000, lambda: self._follow(left - 1, refused))

        self.ask("/state", None, answer)
