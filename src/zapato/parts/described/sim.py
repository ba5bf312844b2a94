"""The stand-in of a described chip: its bytes are made by turning its formulas round, and it is busy as long as the datasheet says."""

from __future__ import annotations

from contextlib import suppress
from functools import lru_cache

from zapato.lang.patterns import Slot
from zapato.parts.described.formula import Formula
from zapato.parts.described.reading import ChipValue, Description, ReadStep
from zapato.parts.simulated import Fault, Feel, Measuring

NO_ANSWER = 19


class Chip(Measuring):
    """One described chip; `feel` gives what the world says of its values."""

    def __init__(self, chip: Description, feel: Feel) -> None:
        self.chip, self.feel = chip, feel
        self._step: ReadStep | None = next((step for step in chip.steps if not step.write), None)
        self._answer = b""
        self._unset = {step.write for step in chip.begin}
        """What must be written before it measures; until then its fields are 0."""

    def write(self, data: bytes) -> None:
        if self.busy:
            raise Fault(NO_ANSWER)
        known = (*self.chip.steps, *self.chip.begin)
        step = next((step for step in known if step.write == data), None)
        if step is None:  # another register or command: it answers nothing that the driver asks for
            self._step, self._answer = None, b""
            return
        self._step = step
        self._unset.discard(data)
        if step.takes:
            self.begin(step.takes, self._measured)
        else:
            self._measured()

    def _measured(self) -> None:
        """The answer of the step that was asked for, by what the chip feels now."""
        step = self._step
        layout = step.layout if step else None
        if layout is None and step in self.chip.steps:  # what follows reads without writing anew
            at = self.chip.steps.index(step) + 1 if step else 0
            after = self.chip.steps[at] if at < len(self.chip.steps) else None
            layout = after.layout if after and not after.write else None
        if layout is None:
            self._answer = b""
            return
        raws: dict[str, int] = {}
        for value in () if self._unset else self.chip.values.values():
            for name in value.formula.names if len(value.formula.names) == 1 else ():
                felt = self.feel(value.name)
                if name in layout.slots and felt is not None:
                    with suppress(ArithmeticError):  # no number leads there: the field is 0
                        raws[name] = raw_of(value, layout.slots[name], float(felt))
        self._answer = layout.make(raws)

    def read(self, size: int) -> bytes:
        if self.busy:
            if self._step and not self._step.silent:
                return bytes(size)
            raise Fault(NO_ANSWER)
        if self._step and not self._step.write:
            self._measured()
        return self._answer[:size].ljust(size, b"\xff")


@lru_cache(maxsize=256)
def _one_way(formula: Formula, slot: Slot) -> bool:
    """Whether a formula goes one way over the whole range of a field; what has four bytes is taken to."""
    step = max(1, (slot.high - slot.low) // 4096)
    curve = [formula.value({slot.name: raw}) for raw in range(slot.low, slot.high + 1, step)]
    return slot.width > 2 or curve == sorted(curve) or curve == sorted(curve, reverse=True)


@lru_cache(maxsize=512)
def raw_of(value: ChipValue, slot: Slot, felt: float) -> int:
    """The number in a field that comes nearest to a value, by the formula turned round: it goes one way over the whole range."""
    name, low, high = slot.name, slot.low, slot.high
    if not _one_way(value.formula, slot):  # as with an exponent: all of two bytes are looked through
        return min(range(low, high + 1), key=lambda raw: abs(value.formula.value({name: raw}) - felt))
    rises = value.formula.value({name: high}) > value.formula.value({name: low})
    while high - low > 1:
        middle = (low + high) // 2
        if (value.formula.value({name: middle}) < felt) == rises:
            low = middle
        else:
            high = middle
    return min((low, high), key=lambda raw: abs(value.formula.value({name: raw}) - felt))
