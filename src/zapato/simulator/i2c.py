"""The I2C buses of a board: chips by their addresses, and multiplexers that connect one bus with others."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import datetime
from functools import reduce
from random import Random
from typing import TYPE_CHECKING, Any

from zapato.parts.simulated import BusStandIn, Measuring
from zapato.parts.simulation import ChipAt
from zapato.simulator.chips import stand_in
from zapato.simulator.clock import Clock
from zapato.simulator.network import AccessPoint
from zapato.simulator.pins import PinLine, Pins
from zapato.simulator.wasi import Fault
from zapato.simulator.world import Quantities

if TYPE_CHECKING:
    from zapato.boards.board import Board as BoardFacts

NO_BUS_ANSWER, TIMED_OUT = 19, 110
EVERY = range(0x08, 0x78)
"""Addresses that a scan asks (extmod/machine_i2c.c, machine_i2c_scan)."""
WAITS = 50_000
"""us that the port waits for a clock line that stays low (extmod/machine_i2c.c, mp_hal_i2c_scl_release; SoftI2C's own timeout)."""


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


class Several:
    """Chips with one address on lines that are connected: all of them hear, and a bit is 1 where none pulls it low (UM10204, wired-AND)."""

    def __init__(self, chips: list[BusStandIn]) -> None:
        self.chips = chips

    def write(self, data: bytes) -> None:
        for chip in self.chips:
            chip.write(data)

    def read(self, size: int) -> bytes:
        answers = [chip.read(size) for chip in self.chips]
        return bytes(reduce(lambda one, other: one & other, row) for row in zip(*answers, strict=True))


class I2cBuses:
    """The I2C buses of a board, by the number of their data line; those behind a multiplexer have a number that is no pin's."""

    clock: Clock
    pins: Pins
    air: AccessPoint
    random: Random
    facts: BoardFacts
    quantities: Quantities
    buses: dict[int, dict[int, BusStandIn]]
    faults: dict[tuple[int, object], str]
    pipe: bytes

    def fault(self, gpio: int, whom: object = None) -> str:
        """What befell a line or a chip; "" where nothing did."""
        return self.faults.get((gpio, whom), "")

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
        if at.reset is not None:
            chip.resets(self.offered_line(at.reset))

    def offered_line(self, gpio: int) -> PinLine:
        """The line at a pin that a chip offers, or drives."""
        return self.pins.line(gpio)

    def after(self, ms: int, call: Callable[[], None]) -> None:
        """Call this later, in virtual time."""
        self.clock.after(ms, call)

    def applied(self, kind: str, gpio: int) -> Any:
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

    # --- lines that are connected

    def _connected(self, line: int) -> Iterator[int]:
        """A line, and those that multiplexers on it connect with it now."""
        yield line
        for address, chip in self.buses.get(line, {}).items():
            for further in getattr(chip, "connected", ()):
                if self.fault(line, address) != "silent":
                    yield from self._connected(further)

    def _line_fault(self, sda: int) -> str:
        """What befell a bus: its own line, or one that a multiplexer connects with it."""
        faults = [self.fault(line) for line in self._connected(sda)]
        held = [word for word in faults if word in ("short", "clock")]
        return held[0] if held else faults[0]

    def connected_anew(self) -> None:
        """What is connected with the buses has changed: a line that is held low holds all that are connected with it."""
        for line, chips in self.buses.items():
            if line >= 0 and any(hasattr(chip, "connected") for chip in chips.values()):
                self.pins.line(line).change(0 if self._line_fault(line) == "short" else 1)

    def _answering(self, sda: int) -> dict[int, list[tuple[int, BusStandIn]]]:
        """By address, the chips that can be reached over a line now, with their own line each."""
        found: dict[int, list[tuple[int, BusStandIn]]] = {}
        for line in self._connected(sda):
            for address, chip in self.buses.get(line, {}).items():
                if self.fault(line) != "cut" and self.fault(line, address) != "silent":
                    found.setdefault(address, []).append((line, chip))
        return found

    # --- what the program asks

    def on_i2c_scan(self, data: bytes) -> str:
        sda = int(data)
        fault = self._line_fault(sda)
        if fault == "clock":
            self.clock.busy(WAITS * len(EVERY))
            return ""
        there = EVERY if fault == "short" else sorted(self._answering(sda))
        return " ".join(str(address) for address in there)

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
        joined: list[Any] = [one for _, one in self._answering(sda).get(address, ())]
        for one in joined:
            one.joined = True
        try:
            self.pipe = chip.read(size)
        finally:
            for one in joined:
                one.joined = False

    def _chip(self, sda: int, address: int) -> BusStandIn:
        fault = self._line_fault(sda)
        if fault == "clock":
            self.clock.busy(WAITS)
            raise Fault(TIMED_OUT)
        if fault == "short":
            return ShortedBus()
        chips = [
            Noisy(chip, self.random) if self.fault(line, address) == "garbage" else chip
            for line, chip in self._answering(sda).get(address, ())
        ]
        if not chips:
            raise Fault(NO_BUS_ANSWER)
        return chips[0] if len(chips) == 1 else Several(chips)
