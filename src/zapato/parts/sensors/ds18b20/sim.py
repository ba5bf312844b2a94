"""DS18B20: what it answers on its line (datasheet, Memory and Function Commands)."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from zapato.parts.onewire.part import crc8
from zapato.parts.simulation import Stimulus, World
from zapato.record import record

CONVERT, READ = 0x44, 0xBE
FAMILY = 0x28
POWER_ON = 0x0550
"""85 °C: what stands in the scratchpad until the first conversion."""


@record
class Thermometer:
    """One chip; `stimulus` gives degrees, `ails` is "silent", "garbage" or ""."""

    stimulus: Callable[[], Any]
    raw: int = POWER_ON
    scratch: bytes = b""
    ails: str = ""

    def power_on(self) -> None:
        self.raw = POWER_ON

    def addressed(self) -> None:
        """It was chosen: what it said before is over."""
        self.scratch = b""

    def write(self, byte: int) -> None:
        """A byte after it was chosen."""
        if byte == CONVERT:
            self.raw = round((self.stimulus() or 0) * 16) & 0xFFFF
        elif byte == READ:
            self._load()

    def _load(self) -> None:
        body = self.raw.to_bytes(2, "little") + b"\x4b\x46\x7f\xff\x0c\x10"
        wrong = 0x5A if self.ails == "garbage" else 0
        self.scratch = body + bytes((crc8(body) ^ wrong,))

    def read(self) -> int:
        """The next byte; all ones where it has nothing to say."""
        first, self.scratch = self.scratch[:1], self.scratch[1:]
        return first[0] if first else 0xFF


@record(eq=False)
class OnWire(Stimulus):
    """The temperature at the chip of this serial number."""

    gpio: int
    number: bytes

    @property
    def place(self) -> tuple[int, object]:  # type: ignore[override]
        return self.gpio, self.number

    def put(self, world: World, value: Any, over: int = 0) -> None:
        where = "onewire", self.gpio, self.number
        world.on_wire(self.gpio, self.number, lambda: Thermometer(lambda: world.applied(*where)))
        world.apply(*where, value=value, over=over)
