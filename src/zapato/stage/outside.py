"""What stands outside a board, for stand-ins that an extension brings: its pins, what its inputs feel, and the time."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from zapato.stage.board import Board
from zapato.stage.clock import Clock


class World:
    """One board's surroundings, as `zapato.extend.World` describes them."""

    def __init__(self, board: Board, clock: Clock) -> None:
        self._board, self._clock = board, clock

    @property
    def now(self) -> int:
        return self._clock.now

    def after(self, ms: int, call: Callable[[], None]) -> None:
        self._clock.after(ms, call)

    def level(self, gpio: int) -> int:
        return self._board.pins.line(gpio).level

    def share(self, gpio: int) -> float:
        line = self._board.pins.line(gpio)
        return float(line.level) if line.duty is None else line.duty

    def contact(self, gpio: int, level: int) -> None:
        self._board.pins.contact(gpio, level)

    def feel(self, kind: str, *where: object, value: Any, over: int = 0) -> None:
        self._board.quantities[(kind, *where)].set(value, over)
