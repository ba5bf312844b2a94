"""A part with a controller of its own: it understands what the board says, keeps how it stands, and tells when that changes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from zapato.lang.patterns import Pattern
from zapato.stage.serial import Serial

BACK = 20
"""ms until it answers."""
GARBAGE = bytes.fromhex("ff00137fa55a")


class Peer:
    """Its states are the fields of the frames."""

    def __init__(
        self, line: Serial, hears: Sequence[Pattern], says: Mapping[str, Pattern], skip: int
    ) -> None:
        self.line, self.hears, self.says, self.skip = line, hears, says, skip
        self.state: dict[str, Any] = {slot.name: 0 for each in hears for slot in each.slots}
        self.heard: list[str] = []
        """Words that it understood."""
        self.silent = False
        self._data = bytearray()

    def hear(self, data: bytes) -> None:
        self._data += data
        while self._data:
            found = next((each for each in self._words() if each), None)
            if found is None:
                del self._data[0]
                continue
            word, values, size = found
            del self._data[:size]
            self.heard.append(word)
            self._obey(word, values)

    def _words(self) -> list[tuple[str, dict[str, Any], int] | None]:
        return [
            (word, values, len(pattern))
            for word, pattern in self.says.items()
            if (values := pattern.read(bytes(self._data[: len(pattern)]), self.skip)) is not None
        ]

    def _obey(self, word: str, values: Mapping[str, Any]) -> None:
        known = {name: value for name, value in values.items() if name in self.state}
        if word in ("on", "off") and "on" in self.state and "on" not in known:
            known["on"] = word == "on"
        if word in ("open", "close") and "position" in self.state:
            known["position"] = 100 if word == "open" else 0
        self.state |= known
        self.tell()

    def tell(self) -> None:
        """Say how it stands."""
        if self.silent:
            return
        for number, each in enumerate(self.hears):
            self.line.answer(each.make(self.state, self.skip), BACK + number)

    def put(self, name: str, value: Any) -> None:
        """Somebody turns the knob."""
        self.state[name] = value
        self.tell()

    def read(self, name: str) -> Any:
        value = self.state.get(name)
        return bool(value) if name == "on" else value

    def do(self, word: str) -> None:
        if word == "garbage":
            self.line.answer(GARBAGE)
        else:
            self.silent = word == "fall_silent"

    def close(self) -> None:
        """Nothing is held."""
