"""What the expanders share: pins that the world and the chip both move, and an interrupt line."""

from __future__ import annotations

from collections.abc import Mapping

from zapato.parts.simulated import ChipBoard, OfferedLine, ReadStimulus


class Quasi:
    """PCF8574, PCF8574A, PCF8575: one latch, high from power-up; a high pin is a weak pull-up that can be read (datasheets, Quasi-bidirectional I/Os)."""

    size = 1

    def __init__(self, stimulus: ReadStimulus) -> None:
        self.latch = 0
        self.lines: dict[int, OfferedLine] = {}
        self.interrupt: OfferedLine | None = None

    def join(self, board: ChipBoard, pins: Mapping[int, int], interrupt: int | None) -> None:
        """Take hold of the pins (number -> gpio of their lines) and of the interrupt line."""
        for number, gpio in pins.items():
            line = self.lines[number] = board.offered_line(gpio)
            line.on_change = self.moved
        self.interrupt = None if interrupt is None else board.offered_line(interrupt)
        self.power_on()

    def power_on(self) -> None:
        self.latch = (1 << 8 * self.size) - 1
        self.show()
        self.quiet()

    def show(self) -> None:
        """Latch and resistors as the pins have them now."""
        for number, line in self.lines.items():
            high = self.latch >> number & 1
            line.pull, line.out = high, None if high else 0
            line.hear()

    def moved(self) -> None:
        if self.interrupt:
            self.interrupt.change(0)

    def quiet(self) -> None:
        if self.interrupt:
            self.interrupt.change(1)

    def levels(self) -> int:
        self.quiet()
        return sum(line.level << number for number, line in self.lines.items())

    def write(self, data: bytes) -> None:
        if len(data) >= self.size:
            self.latch = int.from_bytes(data[-self.size :], "little")
            self.show()
            self.quiet()

    def read(self, size: int) -> bytes:
        return self.levels().to_bytes(self.size, "little")[:size].ljust(size, b"\xff")
