"""What the multiplexers share in a rehearsal: one register, the channels that it connects, a reset input."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol

from zapato.parts.simulated import ChipBoard, OfferedLine, ReadStimulus


class Switching(ChipBoard, Protocol):
    """The board around a chip that connects lines."""

    def connected_anew(self) -> None:
        """What is connected with a bus has changed."""
        ...


class Switch:
    """A bit of the control register a channel.

    TCA9548A datasheet (TI SCPS207), 9.3 and 9.5: all channels are deselected after power-up and by RESET low; of several bytes that are
    written the last one counts; reading gives the register.
    """

    channels = 8

    def __init__(self, stimulus: ReadStimulus) -> None:
        self.register = 0
        self.lines: Mapping[int, int] = {}
        self.board: Switching | None = None

    def join(self, board: Switching, pins: Mapping[int, int], interrupt: int | None) -> None:
        """Take hold of the channels' lines."""
        self.board, self.lines = board, pins
        for gpio in pins.values():
            board.offered_line(gpio).change(1)  # its pull-up resistor

    def resets(self, line: OfferedLine) -> None:
        """Its RESET input is at this line."""

        def moved() -> None:
            if not line.level:
                self.power_on()

        line.on_change = moved

    def power_on(self) -> None:
        self._put(0)

    def _put(self, byte: int) -> None:
        self.register = byte & (1 << self.channels) - 1
        if self.board:
            self.board.connected_anew()

    @property
    def connected(self) -> list[int]:
        """The lines that are connected with its bus."""
        return [line for number, line in self.lines.items() if self.register >> number & 1]

    def write(self, data: bytes) -> None:
        if data:
            self._put(data[-1])

    def read(self, size: int) -> bytes:
        return bytes((self.register,)) * size
