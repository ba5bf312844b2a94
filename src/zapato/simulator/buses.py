"""Chips on the buses of a board: I2C, one-wire, and sensors with a line of their own; and what can befall lines and chips.

What befalls a line stands apart from its chips: a shorted data line acknowledges and reads zeros, whatever hangs on it.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from random import Random
from typing import TYPE_CHECKING, Any

from zapato.parts.kind import ChipAt
from zapato.parts.simulated import BusStandIn, Measuring
from zapato.simulator.chips import stand_in
from zapato.simulator.clock import Clock
from zapato.simulator.network import AccessPoint
from zapato.simulator.onewire import WireLine
from zapato.simulator.pins import PinLine as PinLine
from zapato.simulator.pins import Pins
from zapato.simulator.wasi import Fault
from zapato.simulator.world import Quantities

if TYPE_CHECKING:
    from zapato.boards.board import Board as BoardFacts

NO_BUS_ANSWER, TIMED_OUT = 19, 110
EVERY = range(0x08, 0x78)
"""Addresses that a scan asks (extmod/machine_i2c.c, machine_i2c_scan)."""


WAITS = 50_000
"""us that the port waits for a clock line that stays low (extmod/machine_i2c.c, mp_hal_i2c_scl_release; SoftI2C's own timeout)."""


def held_numbers() -> list[bytes]:
    """What a search finds on a one-wire line that is held low.

    Each bit and its complement read 0, which is two chips that differ, so the search takes one way after the other and ends
    after 255 (drivers/bus/onewire/onewire.py of the vendor's library, OneWire.scan and _search_rom; from memory).
    """
    bits = (f"{(1 << 64) - 1 - n:064b}" for n in range(255))
    return [bytes(int(text[at : at + 8][::-1], 2) for at in range(0, 64, 8)) for text in bits]


class ShortedBus:
    """A bus whose data line is held low: each bit reads 0, and a 0 in the ninth place is an acknowledgement.

    extmod/machine_i2c.c, mp_hal_i2c_write_byte and mp_hal_i2c_read_byte; a controller of the chip may refuse instead.
    """

    def write(self, data: bytes) -> None:
        pass

    def read(self, size: int) -> bytes:
        return bytes(size)


class Noisy:
    """A chip that answers nonsense."""

    def __init__(self, chip: BusStandIn, random: Random) -> None:
        self.chip, self.random = chip, random

    def write(self, data: bytes) -> None:
        self.chip.write(data)

    def read(self, size: int) -> bytes:
        return self.random.randbytes(len(self.chip.read(size)))


class Buses:
    """The buses of a board; `faults` has what befell a line (its pin, None) or a chip (pin, address): "short", "clock", "cut", "low", "high", "silent", "garbage"."""

    clock: Clock
    pins: Pins
    air: AccessPoint
    random: Random
    facts: BoardFacts
    quantities: Quantities
    wires: dict[int, WireLine]
    buses: dict[int, dict[int, BusStandIn]]
    faults: dict[tuple[int, object], str]
    pipe: bytes
    _measured: dict[int, tuple[int, tuple[int, int]]]

    def befall(self, gpio: int, whom: object, word: str) -> None:
        """Something happens to a line (`whom` None) or to a chip on it (an address, a serial number); "" mends it."""
        self.faults[gpio, whom] = word
        if isinstance(whom, bytes):
            self.wire(gpio).chips[whom].ails = word
        elif whom is None:
            self.pins.line(gpio).change(0 if word == "short" else 1)

    def hold_clock(self, sda: int, scl: int, low: bool) -> None:
        """The clock line of an I2C bus goes to ground, or is free again."""
        self.faults[sda, None] = "clock" if low else ""
        self.pins.line(scl).change(0 if low else 1)

    def fault(self, gpio: int, whom: object = None) -> str:
        """What befell a line or a chip; "" where nothing did."""
        return self.faults.get((gpio, whom), "")

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

    # --- I2C

    def chip_on(self, sda: int, address: int, name: str) -> None:
        """Put a chip on the bus with this data line."""
        bus = self.buses.setdefault(sda, {})
        if address not in bus:
            chip = stand_in(name, lambda what: self.quantities["i2c", sda, address, what].get())
            if isinstance(chip, Measuring):
                chip.now = lambda: self.clock.now + self.clock.micro / 1000
            bus[address] = chip

    def stand(self, part: str, at: ChipAt) -> None:
        """Put a chip that offers pins on its bus; the lines of its pins are called after the part."""
        self.chip_on(at.line, at.address, at.name)
        for number, gpio in at.pins.items():
            self.pins.offered(gpio, f"{part}.{number}")
        chip: Any = self.buses[at.line][at.address]
        chip.part, chip.volts = part, at.volts
        chip.line, chip.address = at.line, at.address
        chip.join(self, at.pins, at.interrupt)

    def offered_line(self, gpio: int) -> PinLine:
        """The line at a pin that a chip offers, or drives."""
        return self.pins.line(gpio)

    def after(self, ms: int, call: Callable[[], None]) -> None:
        """Call this later, in virtual time."""
        self.clock.after(ms, call)

    def felt(self, kind: str, gpio: int) -> Any:
        """What is felt at a pin; None where nothing was ever set."""
        return self.quantities[kind, gpio].get()

    def utc(self) -> datetime:
        """The time of day of the world."""
        return self.air.utc()

    def on_i2c_controller(self, data: bytes) -> None:
        """A controller takes these pins, where the chip has it and its routing allows it."""
        number, sda, scl = map(int, data.split())
        chip = self.facts.chip
        routes = [(chip.routes.get(f"i2c.{line}"), gpio) for line, gpio in (("sda", sda), ("scl", scl))]
        if number >= chip.resources.i2c or any(
            r is not None and gpio not in r.get(number, ()) for r, gpio in routes
        ):
            raise Fault(1)

    def on_i2c_scan(self, data: bytes) -> str:
        sda = int(data)
        if self.fault(sda) == "clock":
            self.clock.busy(WAITS * len(EVERY))
            return ""
        there = {"short": list(EVERY), "cut": []}.get(self.fault(sda), sorted(self.buses.get(sda, ())))
        return " ".join(
            str(chip_address) for chip_address in there if self.fault(sda, chip_address) != "silent"
        )

    def on_i2c_write(self, data: bytes) -> None:
        head, _, sent = data.partition(b"\n")
        sda, address, rate = map(int, head.split())
        self.clock.busy((len(sent) + 1) * 9_000_000 // rate)
        self._chip(sda, address).write(sent)

    def on_i2c_read(self, data: bytes) -> None:
        sda, address, size, rate = map(int, data.split())
        self.clock.busy((size + 1) * 9_000_000 // rate)
        self.pipe = self._chip(sda, address).read(size)

    def on_i2c_joined(self, data: bytes) -> None:
        """A register's address, a repeated start, and its answer."""
        sda, address, register, size, rate = map(int, data.split())
        self.clock.busy((size + 3) * 9_000_000 // rate)
        chip = self._chip(sda, address)
        chip.write(bytes((register,)))
        joined: Any = self.buses.get(sda, {}).get(address)
        if joined is not None:
            joined.joined = True
        try:
            self.pipe = chip.read(size)
        finally:
            if joined is not None:
                joined.joined = False

    def _chip(self, sda: int, address: int) -> BusStandIn:
        if self.fault(sda) == "clock":
            self.clock.busy(WAITS)
            raise Fault(TIMED_OUT)
        if self.fault(sda) == "short":
            return ShortedBus()
        chip = self.buses.get(sda, {}).get(address)
        word = self.fault(sda, address)
        if chip is None or self.fault(sda) == "cut" or word == "silent":
            raise Fault(NO_BUS_ANSWER)
        return Noisy(chip, self.random) if word == "garbage" else chip

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
