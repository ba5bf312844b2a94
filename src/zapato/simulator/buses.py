"""Chips on the buses of a board: I2C, one-wire, and sensors with a line of their own; and what can befall lines and chips.

What befalls a line stands apart from its chips: a shorted data line acknowledges and reads zeros, whatever hangs on it.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from zapato.simulator.i2c import TIMED_OUT, I2cBuses
from zapato.simulator.onewire import WireLine
from zapato.simulator.pins import PinLine as PinLine
from zapato.simulator.wasi import Fault

if TYPE_CHECKING:
    pass


def held_numbers() -> list[bytes]:
    """What a search finds on a one-wire line that is held low.

    Each bit and its complement read 0, which is two chips that differ, so the search takes one way after the other and ends
    after 255 (drivers/bus/onewire/onewire.py of the vendor's library, OneWire.scan and _search_rom; from memory).
    """
    bits = (f"{(1 << 64) - 1 - n:064b}" for n in range(255))
    return [bytes(int(text[at : at + 8][::-1], 2) for at in range(0, 64, 8)) for text in bits]


class Buses(I2cBuses):
    """The buses of a board; `faults` has what befell a line (its pin, None) or a chip (pin, address): "short", "clock", "cut", "low", "high", "silent", "garbage"."""

    wires: dict[int, WireLine]
    _measured: dict[int, tuple[int, tuple[int, int]]]

    def befall(self, gpio: int, whom: object, word: str) -> None:
        """Something happens to a line (`whom` None) or to a chip on it (an address, a serial number); "" mends it."""
        self.faults[gpio, whom] = word
        if isinstance(whom, bytes):
            self.wire(gpio).befall(whom, word)
        elif whom is None:
            self.pins.line(gpio).change(0 if word == "short" else 1)
        self.connected_anew()

    def hold_clock(self, sda: int, scl: int, low: bool) -> None:
        """The clock line of an I2C bus goes to ground, or is free again."""
        self.faults[sda, None] = "clock" if low else ""
        self.pins.line(scl).change(0 if low else 1)

    # --- one-wire

    def wire(self, gpio: int) -> WireLine:
        """The one-wire line on this pin."""
        return self.wires.setdefault(gpio, WireLine())

    def do_wire_reset(self, gpio: int, *_: int) -> int:
        self.clock.busy(960)
        there = self.wire(gpio).reset()
        # A low line is taken for a presence pulse (extmod/modonewire.c, onewire_bus_reset).
        held = self.fault(gpio) == "short"
        return int(held or (there and self.fault(gpio) != "cut"))

    def do_wire_write(self, gpio: int, value: int, *_: int) -> None:
        self.clock.busy(8 * 65)
        self.wire(gpio).write(value)

    def do_wire_read(self, gpio: int, *_: int) -> int:
        self.clock.busy(8 * 65)
        levels = self.wire(gpio).read()
        return {"short": 0, "cut": 0xFF}.get(self.fault(gpio), levels)

    def on_wire_search(self, data: bytes) -> str:
        gpio, number = map(int, data.split())
        roms = sorted(rom for rom, line_chip in self.wire(gpio).chips.items() if line_chip.ails != "silent")
        if self.fault(gpio):
            roms = held_numbers() if self.fault(gpio) == "short" else []
        self.clock.busy(960 + 64 * 3 * 65)
        return roms[number].hex() if number < len(roms) else ""

    # --- sensors with a line of their own

    def on_dht(self, data: bytes) -> str:
        """A DHT's answer in tenths; while its bits come, the driver keeps interrupts off."""
        gpio = int(data)
        self.clock.busy(5_000)
        if self.fault(gpio) or self.fault(gpio, -1) == "silent":  # a low line, or one that nothing pulls low
            raise Fault(TIMED_OUT)
        if self.fault(gpio, -1) == "garbage":
            return ""
        last, values = self._measured.get(gpio, (None, (0, 0)))
        if last is None or self.clock.now - last >= 2000:
            readings = [self.quantities["dht", gpio, name].get() for name in ("temperature", "humidity")]
            if None in readings:
                raise Fault(TIMED_OUT)
            values = round(readings[0] * 10), round(readings[1] * 10)
            self._measured[gpio] = self.clock.now, values
        return f"{values[0]} {values[1]}"
