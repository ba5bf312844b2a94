"""The stand-in of a described chip: its bytes are made by turning its formulas round, and it is busy as long as the datasheet says."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from contextlib import suppress
from functools import lru_cache
from math import inf

from zapato.parts.described.description import Description, ReadStep
from zapato.parts.simulated import Fault, Feel, Measuring

NO_ANSWER = 19
FLAGS = 256
"""Numbers to both sides that are looked at: what an answer says of itself stands in the low bits."""


class Chip(Measuring):
    """One described chip; `feel` gives what the world says of its values."""

    def __init__(self, chip: Description, feel: Feel) -> None:
        self.chip, self.feel = chip, feel
        self._step: ReadStep | None = next((step for step in chip.steps if not step.write), None)
        self._answer = b""
        self._unset = {*chip.begin}
        """What must be written before it measures; until then its fields are 0."""
        self._chosen: dict[str, str] = {}

    def write(self, data: bytes) -> None:
        if self.busy:
            raise Fault(NO_ANSWER)
        step = self._next(data)
        if step is None:  # another register or command: it answers nothing that the driver asks for
            self._step, self._answer = None, b""
            return
        self._step = step
        self._unset.discard(step)
        if step.takes:
            self.begin(step.takes, self._measured)
        else:
            self._measured()

    def _next(self, data: bytes) -> ReadStep | None:
        """The step that begins with this, from the last one on: what a register gives may hang on the command before."""
        known = (*self.chip.steps, *self.chip.calibration, *self.chip.begin)
        last = known.index(self._step) + 1 if self._step in known else 0
        for step in (*known[last:], *known[:last]):
            given = step.write.matches(data) if step.write else None
            if given is not None and self._set(given):
                return step
        return None

    def _set(self, given: Mapping[str, int]) -> bool:
        """The settings' bytes that were written; False where one is none of its options."""
        words = {
            name: next((word for word, code in self.chip.settings[name].options.items() if code == byte), "")
            for name, byte in given.items()
        }
        if not all(words.values()):
            return False
        self._chosen |= words
        return True

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
        elif step in self.chip.calibration:
            self._answer = layout.make({name: int(word) for name, word in self.chip.constants.items()})
        else:
            self._answer = layout.make({} if self._unset else self._raws())

    def _raws(self) -> dict[str, int]:
        """Every value's own field, in the order in which they hang on each other; what nothing is felt of is as in the first example."""
        raws = dict(self.chip.usual)
        for name, slot in self.chip.own.items():
            felt = self.feel(name)
            if felt is not None:
                others = (
                    *((key, raw) for key, raw in raws.items() if key != slot),
                    *self.chip.counts(self._chosen).items(),
                )
                with suppress(ArithmeticError):  # no number leads there: the field stays
                    raws[slot] = self._counted(raw_of(self.chip, name, float(felt), others), slot, raws)
        return raws

    def _counted(self, raw: int, field: str, raws: Mapping[str, int]) -> int:
        """The nearest number at which the answer says that it counts, where it says so in the same field."""
        valid = next((s.valid for s in self.chip.steps if s.valid and field in s.valid.names), None)
        if valid is None:
            return raw
        slot = self.chip.slots()[field]
        near = (raw + by for distance in range(FLAGS) for by in (distance, -distance))
        good = (n for n in near if slot.low <= n <= slot.high and valid.value({**raws, field: n}))
        return next(good, raw)

    def read(self, size: int) -> bytes:
        if self.busy:
            if self._step and not self._step.silent:
                return bytes(size)
            raise Fault(NO_ANSWER)
        if self._step and not self._step.write:
            self._measured()
        return self._answer[:size].ljust(size, b"\xff")


class SpiChip(Chip):
    """One on SPI that is only read: from the moment it is selected its bytes come out, and zeros after them."""

    def __init__(self, chip: Description, feel: Feel) -> None:
        super().__init__(chip, feel)
        self._out: bytes | None = None

    def end(self) -> None:
        """The select line moved."""
        self._out = None

    def move(self, sent: bytes) -> bytes:
        """What comes in while these bytes go out."""
        if self._out is None:
            layout = self.chip.steps[0].layout
            self._out = self.read(layout.size) if layout else b""
        taken, self._out = self._out[: len(sent)], self._out[len(sent) :]
        return taken.ljust(len(sent), b"\0")


Others = tuple[tuple[str, float], ...]
"""Fields that are settled already, and what is read of settings, with their numbers."""


def _at(chip: Description, name: str, others: Others) -> Callable[[int], float]:
    """The value as a function of its own field; where it is divided by nothing it has no end."""
    known = chip.constants | dict(others)
    slot = chip.own[name]

    def value(raw: int) -> float:
        try:
            return chip.amount(name, known | {slot: raw})
        except ZeroDivisionError:
            return inf

    return value


@lru_cache(maxsize=256)
def _one_way(chip: Description, name: str, others: Others) -> bool:
    """Whether a value goes one way over the whole range of its field; what has three bytes and more is taken to."""
    slot = chip.slots()[chip.own[name]]
    if slot.width > 2:
        return True
    step = max(1, (slot.high - slot.low) // 4096)
    curve = [_at(chip, name, others)(raw) for raw in range(slot.low, slot.high + 1, step)]
    return curve == sorted(curve) or curve == sorted(curve, reverse=True)


@lru_cache(maxsize=512)
def raw_of(chip: Description, name: str, felt: float, others: Others = ()) -> int:
    """The number in a value's own field that comes nearest to what is felt: the formula turned round."""
    slot, value = chip.slots()[chip.own[name]], _at(chip, name, others)
    low, high = slot.low, slot.high
    if not _one_way(
        chip, name, others
    ):  # as with an exponent, or a pole: all of two bytes are looked through
        usual, digits = chip.usual.get(slot.name, 0), chip.values[name].digits + 1
        return min(
            range(low, high + 1), key=lambda raw: (round(abs(value(raw) - felt), digits), abs(raw - usual))
        )
    rises = value(high) > value(low)
    while high - low > 1:
        middle = (low + high) // 2
        if (value(middle) < felt) == rises:
            low = middle
        else:
            high = middle
    return min((low, high), key=lambda raw: abs(value(raw) - felt))
