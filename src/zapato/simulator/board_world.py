"""What stands outside a board, as bundles see it: its pins, what its inputs feel, what hangs on it, and the time."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence
from typing import Any, TypeVar

from zapato.parts.simulation import Attached
from zapato.simulator.board import SimulatedBoard
from zapato.simulator.clock import Clock
from zapato.simulator.debounce import Debounce

T = TypeVar("T")


class BoardWorld:
    """One board's surroundings, as `zapato.extend.World` describes them."""

    def __init__(self, board: SimulatedBoard, clock: Clock, settling: Debounce) -> None:
        self._board, self._clock, self._settling = board, clock, settling
        self._kept: dict[Hashable, Any] = {}

    @property
    def now(self) -> int:
        return self._clock.now

    def after(self, ms: int, call: Callable[[], None]) -> None:
        self._clock.after(ms, call)

    def watch(self, call: Callable[[], None]) -> None:
        self._clock.watchers.append(call)

    def keep(self, key: Hashable, make: Callable[[], T]) -> T:
        if key not in self._kept:
            self._kept[key] = make()
        return self._kept[key]

    # --- pins

    def level(self, gpio: int) -> int:
        return self._board.pins.line(gpio).level

    def share(self, gpio: int) -> float:
        line = self._board.pins.line(gpio)
        return float(line.level) if line.duty is None else line.duty

    def lights(self, gpio: int) -> bytes:
        return self._board.lights.get(gpio, b"")

    def contact(self, gpio: int, level: int) -> None:
        self._board.pins.contact(gpio, level)

    def touch(self, part: str, gpio: int, level: int, finger: bool = False) -> None:
        self._settling.moved(part, level, finger)
        self._board.pins.contact(gpio, level)

    def drive(self, gpio: int, level: int) -> None:
        self._board.pins.line(gpio).change(level)

    def loosen(self, gpio: int, loose: bool) -> None:
        self._board.pins.line(gpio).loosen(loose)

    # --- what inputs feel

    def apply(self, kind: str, *where: object, value: Any, over: int = 0) -> None:
        self._board.quantities[(kind, *where)].set(value, over)

    def applied(self, kind: str, *where: object) -> Any:
        return self._board.quantities[(kind, *where)].get()

    # --- buses and lines

    def chip(self, line: int, address: int, name: str) -> None:
        self._board.chip_on(line, address, name)

    def on_wire(self, gpio: int, number: bytes, make: Callable[[], Any]) -> None:
        self._board.wire(gpio).add(number, make)

    def befall(self, gpio: int, whom: object, fault: str) -> None:
        self._board.befall(gpio, whom, fault)

    def hold_clock(self, sda: int, scl: int, low: bool) -> None:
        self._board.hold_clock(sda, scl, low)

    def serial_fault(self, gpio: int, fault: str) -> None:
        self._board.serial(gpio).fault = fault

    # --- what hangs on the board

    def attached(self, kind: str, *where: Any) -> Sequence[Attached]:
        if kind == "serial":
            return self._board.serial(*where).peers
        devices: Any = (
            self._board.ether.beacons[where[0]] if kind == "beacon" else getattr(self._board, kind)(*where)
        )
        return (devices,)
