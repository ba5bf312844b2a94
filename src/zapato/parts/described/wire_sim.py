"""What a described chip answers on a one-wire line."""

from __future__ import annotations

from zapato.parts.described.description import Description
from zapato.parts.described.sim import Chip
from zapato.parts.simulated import Fault, ReadStimulus
from zapato.parts.simulation import World


class DescribedWireChip:
    """One described chip on a one-wire line; `ails` is "silent", "garbage" or "".

    A command that comes while it measures is not heard, and reading gives ones then: nobody drives the line.
    """

    ails = ""

    def __init__(self, chip: Description, stimulus: ReadStimulus, world: World) -> None:
        self._measures = tuple(step for step in chip.steps if step.layout is None)
        self._chip = Chip(chip, stimulus)
        self._chip.now = lambda: float(world.now)
        self._said, self._answer = b"", b""
        self.power_on()

    def power_on(self) -> None:
        self._chip.power_on()
        self._chip.unset |= {*self._measures}

    def addressed(self) -> None:
        """It was chosen: what comes next is a command."""
        self._said, self._answer = b"", b""

    def write(self, byte: int) -> None:
        """A byte after it was chosen."""
        self._said += bytes((byte,))
        step = self._chip.step_of(self._said)
        if step is None or self._chip.busy:
            return
        try:
            self._chip.write(self._said)
            self._answer = self._chip.read(step.layout.size) if step.layout else b""
        except Fault:
            self._answer = b""
        if self.ails == "garbage" and self._answer:
            self._answer = bytes((self._answer[0] ^ 0x5A,)) + self._answer[1:]

    def read(self) -> int:
        """The next byte; all ones where it has nothing to say."""
        first, self._answer = self._answer[:1], self._answer[1:]
        return first[0] if first else 0xFF
