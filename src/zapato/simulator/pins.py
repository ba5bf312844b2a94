"""The pins of one board: what the program, the world and the resistors make of their levels."""

from __future__ import annotations

from collections.abc import Callable
from random import Random

from zapato.boards.board import Chip
from zapato.simulator.clock import Clock
from zapato.simulator.interrupts import Interrupts
from zapato.simulator.trace import Trace
from zapato.simulator.wasi import Fault

RISING, FALLING = 1, 2
HUM = 10
"""ms of half a period of the mains (50 Hz)."""
BOUNCE = 20
"""ms that a contact's metal bounces at the most."""
REFUSED = {
    "invalid pin": 1,
    "pin can only be input": 2,
    "invalid pull": 3,
    "pin has no interrupt": 4,
    "hard IRQ not supported": 5,
    "invalid period": 6,
}
"""What a port says to a pin that cannot do it; the machine modules have the words by these numbers."""


class PinLine:
    """One pin."""

    def __init__(self, pins: Pins, gpio: int, name: str, reset: int) -> None:
        self.pins, self.gpio, self.name, self.reset_pull = pins, gpio, name, reset
        self.out: int | None = None
        self.drive: int | None = None
        self.pull = reset
        self.shown: int | None = None
        self.trigger, self.hard = 0, False
        self.duty: float | None = None
        self.on_change: Callable[[], None] = lambda: None
        self.loose, self.noise = False, 0
        self.moves = 0
        """How often a contact at it was moved."""
        self.quiet = False
        """Its edges are too many to be told."""

    def reset(self) -> None:
        """Power-up: nobody drives the pin, its resistors are as the chip's reset leaves them."""
        self.out, self.pull, self.trigger, self.duty = None, self.reset_pull, 0, None
        self.hear()

    def dark(self) -> None:
        """Power off."""
        self.out, self.pull, self.trigger, self.duty = None, 0, 0, None
        self.hear()

    @property
    def level(self) -> int:
        if self.out is not None:
            return self.out
        if self.drive is not None and not self.loose:
            return self.drive
        return self.noise if self.loose and not self.pull else int(self.pull == 1)

    def loosen(self, loose: bool) -> None:
        """The wire comes off, or is back: without a resistor the pin then picks up the mains around it."""
        self.loose = loose
        if loose:
            self._hum()
        self.hear()

    def _hum(self) -> None:
        if self.loose:
            self.noise = 1 - self.noise
            self.hear()
            self.pins.clock.after(HUM, self._hum)

    def change(self, drive: int | None) -> None:
        """The world puts another level on the pin."""
        self.drive = drive
        self.hear()

    def write(self, level: int) -> None:
        """The program does. Where the port's modulation goes on under it, the pin stays modulated."""
        if self.duty is not None and self.pins.modulation_outlives:
            return
        self.out, self.duty = level, None
        self.hear()

    def release(self) -> None:
        """Nobody on the board drives the pin any more."""
        self.out = None
        self.hear()

    def unshare(self) -> None:
        """The program ends the modulation: the pin stays at the level that it had last."""
        if self.duty is not None:
            self.out, self.duty = int(self.duty > 0), None
            self.hear()

    def share(self, part: float) -> None:
        """The program modulates the pin, or puts a voltage on it: on for this part of the time."""
        before, self.duty, self.out = self.duty, part, int(part >= 0.5)
        if part != before:
            self.pins.trace.log("duty", self.name, round(part, 4))
        self.shown = self.out

    def hear(self) -> None:
        before, level = self.shown, self.level
        if level == before:
            return
        self.shown = level
        if not self.quiet:
            self.pins.trace.log("pin", self.name, level)
        self.on_change()
        if before is not None and self.trigger & (RISING if level else FALLING):
            self.pins.interrupts.fire(self.gpio, level, self.hard)


def _ignore(gpio: int, level: int) -> None:
    pass


class Pins:
    """All pins of a chip, with its limits."""

    def __init__(
        self, chip: Chip, clock: Clock, trace: Trace, random: Random, interrupts: Interrupts
    ) -> None:
        self.chip, self.clock, self.trace, self.random = chip, clock, trace, random
        self.interrupts = interrupts
        self.modulation_outlives = False
        """A pin goes on being modulated after it was made a plain output, until the modulation is ended."""
        self._lines: dict[int, PinLine] = {}
        self.bounces = False
        self.on_write: Callable[[int, int], None] = _ignore

    def line(self, gpio: int) -> PinLine:
        """The line of this pin. Raises Fault where the chip has none."""
        line = self._lines.get(gpio)
        if line is None:
            pin = self.chip.pins.get(gpio)
            if pin is None:
                raise Fault(REFUSED["invalid pin"])
            level = {"high": 1, "low": 2, None: 0}[pin.reset_level]
            line = self._lines[gpio] = PinLine(self, gpio, pin.name, level)
            line.hear()
        return line

    def offered(self, gpio: int, name: str) -> None:
        """A pin that a chip on a bus offers gets a line; its number is negative."""
        self._lines.setdefault(gpio, PinLine(self, gpio, name, 0))

    def set_up(self, gpio: int, mode: int, pull: int, level: int) -> None:
        """Pin.init of the program: mode 0 in, 1 out, 2 open drain; -1 leaves a setting. Raises Fault."""
        line, can = self.line(gpio), self.chip.pins[gpio]
        if mode in (1, 2) and not can.drives:
            raise Fault(REFUSED["pin can only be input"])
        if (pull == 1 and not can.pull_up) or (pull == 2 and not can.pull_down):
            raise Fault(REFUSED["invalid pull"])
        if mode == 0:
            line.out, line.pull = None, pull if pull in (1, 2) else 0
            line.hear()
        elif mode == 1:
            self.write(gpio, line.level if level < 0 else level)

    def write(self, gpio: int, level: int) -> None:
        self.line(gpio).write(level)
        self.on_write(gpio, level)

    def listen(self, gpio: int, trigger: int, hard: bool) -> None:
        """Pin.irq of the program. Raises Fault."""
        if not self.chip.pins[gpio].interrupt:
            raise Fault(REFUSED["pin has no interrupt"])
        line = self.line(gpio)
        line.trigger, line.hard = trigger, hard

    def contact(self, gpio: int, level: int) -> None:
        """A contact moves: its metal bounces for up to 20 ms before it lies still."""
        line = self.line(gpio)
        line.moves += 1  # what still bounces of the movement before ends here
        move = line.moves
        if not self.bounces or line.level == level:
            line.change(level)
            return

        def turn(to: int) -> None:
            if line.moves == move:
                line.change(to)

        moments = sorted(self.random.randrange(1, BOUNCE) for _ in range(2 * self.random.randrange(4)))
        line.change(level)
        for number, ms in enumerate(moments):
            self.clock.after(ms, lambda to=level if number % 2 else 1 - level: turn(to))

    def power_on(self) -> None:
        self.interrupts.clear()
        for line in self._lines.values():
            line.reset()

    def power_off(self) -> None:
        self.interrupts.clear()
        for line in self._lines.values():
            line.dark()
