"""A part with a controller of its own: it understands what the board says, keeps how it stands, and tells when that changes.

What has a `position` is moved by a motor: it takes its time, tells where it is on the way, and may jam or not heed stop.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from zapato.lang.patterns import Pattern
from zapato.parts.simulated import SerialLine, VirtualTime

BACK = 20
"""ms until it answers."""
TRAVEL = 20.0
"""s that a motor takes from one end to the other, until the world says otherwise."""
STEP = 500
"""ms between two positions that it tells on its way."""
TALKS = 1000
"""ms between two frames of a sensor that nobody asks."""
GARBAGE = bytes.fromhex("ff00137fa55a")


ALIVE = "alive"
"""The word that is said again and again; only the first one is worth a row."""
MOTOR = ("jam", "free", "ignore_stop", "heed_stop")
"""What may befall a motor."""


class Motor:
    """Moves something between 0 and 100 and tells where it is."""

    def __init__(self, clock: VirtualTime, moved: Callable[[float], None]) -> None:
        self.clock, self.moved = clock, moved
        self.travel, self.place = TRAVEL, 0.0
        self.aim: float | None = None
        self.jammed = self.deaf = self._turning = False

    def go(self, aim: float) -> None:
        self.aim = min(100.0, max(0.0, aim))
        if not self._turning:
            self._turning = True
            self.clock.after(STEP if self.travel else 0, self._turn)

    def stop(self) -> None:
        if not self.deaf:
            self.aim = None

    def moved_by_hand(self, place: float) -> None:
        self.place, self.aim = place, None

    def befall(self, word: str) -> None:
        if word in ("jam", "free"):
            self.jammed = word == "jam"
        else:
            self.deaf = word == "ignore_stop"

    def _turn(self) -> None:
        if self.aim is None or self.jammed:
            self._turning, self.aim = False, None
            return
        most = 100 * STEP / 1000 / self.travel if self.travel else 100
        self.place = round(self.place + min(most, max(-most, self.aim - self.place)), 3)
        self.moved(self.place)
        self._turning = self.place != self.aim
        if self._turning:
            self.clock.after(STEP, self._turn)


class Peer:
    """Its states are the fields of the frames."""

    def __init__(
        self, line: SerialLine, name: str, hears: Sequence[Pattern], says: Mapping[str, Pattern], skip: int
    ) -> None:
        self.line, self.name, self.hears, self.says, self.skip = line, name, hears, says, skip
        self.state: dict[str, Any] = {slot.name: 0 for frame in hears for slot in frame.slots}
        self.heard: list[str] = []
        """Words that it understood."""
        self.silent = self._talks = False
        self._data = bytearray()
        self._motor = Motor(line.clock, self._moved) if "position" in self.state else None

    def hear(self, data: bytes) -> None:
        self._data += data
        strange = bytearray()
        while self._data:
            frame = next((word for word in self._words() if word), None)
            if frame is None:
                strange.append(self._data.pop(0))
                continue
            word, values, size = frame
            if word != ALIVE or ALIVE not in self.heard:
                self.line.log(self.name, f"hears {word}: {self._data[:size].hex(' ')}")
            del self._data[:size]
            self.heard.append(word)
            self._obey(word, values)
        if strange:
            self.line.log(self.name, f"understands nothing of {strange.hex(' ')}")

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
        if self._motor and "position" in known:
            self._motor.go(float(known.pop("position")))
        elif self._motor and word == "stop":
            self._motor.stop()
        self.state |= known
        self.tell()

    def _moved(self, position: float) -> None:
        self.state["position"] = position
        self.tell()

    def tell(self) -> None:
        """Say how it stands."""
        if self.silent:
            return
        for number, frame in enumerate(self.hears):
            self.line.answer(frame.make(self.state, self.skip), BACK + number)

    def put(self, name: str, value: Any, over: int = 0) -> None:
        """Somebody turns the knob, or moves by hand what a motor moves; `travel` is how long the motor takes."""
        if name == "travel" and self._motor:
            self._motor.travel = float(value)
            return
        if name == "position" and self._motor:
            self._motor.moved_by_hand(float(value))
        self.state[name] = value
        if not self.says and not self._talks:
            self._talks = True
            self._talk()
        else:
            self.tell()

    def _talk(self) -> None:
        """What nobody asks tells by itself."""
        self.tell()
        self.line.clock.after(TALKS, self._talk)

    def read(self, name: str) -> Any:
        value = self.state.get(name)
        if name == "position":
            place = round(float(value or 0), 1)
            return int(place) if place == int(place) else place
        return bool(value) if name == "on" else value

    def do(self, word: str) -> None:
        if word == "garbage":
            self.line.answer(GARBAGE)
        elif word in MOTOR and self._motor:
            self._motor.befall(word)
        else:
            self.silent = word == "fall_silent"

    def close(self) -> None:
        """Nothing is held."""
