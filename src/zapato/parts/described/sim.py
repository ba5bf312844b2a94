"""The stand-in of a described chip: its bytes are made by turning its formulas round, and it is busy as long as the datasheet says."""

from __future__ import annotations

from array import array
from collections.abc import Callable, Mapping
from contextlib import suppress
from functools import lru_cache
from math import inf

from zapato.parts.described.description import Description, ReadStep
from zapato.parts.simulated import Fault, Measuring, ReadStimulus

NO_ANSWER = 19
FLAGS = 256
"""Numbers to both sides that are looked at: what an answer says of itself stands in the low bits."""


class Chip(Measuring):
    """One described chip; `stimulus` gives what the world says of its values."""

    joined = False
    """Whether what is read now follows on a repeated start; the bus says so."""

    def __init__(self, chip: Description, stimulus: ReadStimulus) -> None:
        self.chip, self.stimulus = chip, stimulus
        self._continuous = not any(step.write for step in chip.steps)
        """Whether it measures again and again by itself: each answer is of the moment."""
        self.power_on()

    def power_on(self) -> None:
        """It has forgotten what it was told."""
        self._until, self._then = 0.0, None
        self._step: ReadStep | None = next((step for step in self.chip.steps if not step.write), None)
        self._answer = b""
        self.unset = {*self.chip.begin}
        """What must be written before it measures; until then its fields are 0."""
        self._chosen: dict[str, str] = {}
        self._asked_again: ReadStep | None = None
        """The step that is asked again until it has measured."""

    def write(self, data: bytes) -> None:
        step = self.step_of(data)
        if step and step is self._asked_again:
            return  # it goes on measuring
        if self.busy:
            raise Fault(NO_ANSWER)
        if step is None:  # another register or command: it answers nothing that the driver asks for
            self._step, self._answer = None, b""
            return
        self._step = step
        self.unset.discard(step)
        self._asked_again = step if step.until else None
        if step.takes:
            self.begin(step.takes, self._measured)
        else:
            self._measured()

    def step_of(self, data: bytes) -> ReadStep | None:
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
        if layout is None and step not in self.chip.calibration:  # what follows reads without writing anew
            at = self.chip.steps.index(step) + 1 if step in self.chip.steps else 0
            after = self.chip.steps[at] if at < len(self.chip.steps) else None
            layout = after.layout if after and not after.write else None
        if layout is None:
            self._answer = b""
        elif step in self.chip.calibration:
            self._answer = layout.make({name: int(word) for name, word in self.chip.constants.items()})
        else:
            self._answer = layout.make({} if self.unset else self._raws())

    def _raws(self) -> dict[str, int]:
        """Every value's own field, in the order in which they hang on each other; what nothing is felt of is as in the first example."""
        raws = dict(self.chip.usual)
        for name, slot in self.chip.own.items():
            applied = self.stimulus(name)
            if applied is not None:
                others = self._others(name, raws)
                with suppress(ArithmeticError):  # no number leads there: the field stays
                    raws[slot] = self._counted(raw_of(self.chip, name, float(applied), others), slot, raws)
                    if fine := self.chip.fine.get(name):
                        known = (*others, (slot, raws[slot]))
                        raws[fine] = _nearest(self.chip, name, fine, float(applied), dict(known))
        return raws

    def _others(self, name: str, raws: Mapping[str, int]) -> Others:
        """What else the value hangs on, as it stands."""
        known = {**raws, **self.chip.counts(self._chosen)}
        reached = self.chip.reached(self.chip.values[name].formula) - {self.chip.own[name]}
        return tuple((key, known[key]) for key in sorted(reached & known.keys()))

    def _counted(self, raw: int, field: str, raws: Mapping[str, int]) -> int:
        """The nearest number at which the answer says that it counts, where it says so in the same field."""
        valid = next((s.valid for s in self.chip.steps if s.valid and field in s.valid.names), None)
        if valid is None:
            return raw
        slot = self.chip.slots()[field]

        def counts(number: int) -> bool:
            return slot.low <= number <= slot.high and bool(valid.value({**raws, field: number}))

        if all(counts(raw + by) for by in (-2, -1, 1, 2)):
            return raw  # no flag in its low bits: this one number does not count, and the chip says it all the same
        near = (raw + by for distance in range(FLAGS) for by in (distance, -distance))
        return next((number for number in near if counts(number)), raw)

    def read(self, size: int) -> bytes:
        if self.chip.head["repeated"] and not self.joined:
            raise Fault(NO_ANSWER)
        if self.busy:
            if self._step and self._step.until:
                return self._step.waiting[:size]
            if self._step and not self._step.silent:
                return bytes(size)
            raise Fault(NO_ANSWER)
        self._asked_again = None
        if self._continuous:
            self._measured()
        return self._answer[:size].ljust(size, b"\xff")


class SpiChip(Chip):
    """One on SPI: while it is selected it takes the bytes of a step and gives its answer, zeros after that; one that is only read gives it at once."""

    def __init__(self, chip: Description, stimulus: ReadStimulus) -> None:
        super().__init__(chip, stimulus)
        self.mode: int = chip.head["mode"]
        self._said = b""
        self._out: bytes | None = None

    def end(self) -> None:
        """The select line moved."""
        self._said, self._out = b"", None

    def move(self, sent: bytes) -> bytes:
        """What comes in while these bytes go out."""
        silent = any(step.write for step in self.chip.steps)
        given = bytearray()
        for byte in sent:
            if self._out is None and silent:
                self._said += bytes((byte,))
                given.append(0xFF)
                self._asked()
            else:
                self._out = self._answered() if self._out is None else self._out
                given += self._out[:1] or b"\0"
                self._out = self._out[1:]
        return bytes(given)

    def _asked(self) -> None:
        """What was said is a whole step: its answer comes next."""
        if self.step_of(self._said) is None:
            return
        if not self.busy or self._asked_again:
            self.write(self._said)
        self._out = self._answered()

    def _answered(self) -> bytes:
        """Its bytes; nobody drives the line while it measures."""
        layout = self._step.layout if self._step else None
        size = layout.size if layout else 0
        waits = self.busy and not (self._step and self._step.until)
        return b"\xff" * size if waits else self.read(size)


Others = tuple[tuple[str, float], ...]
"""Fields that are settled already, and what is read of settings, with their numbers."""


def _at(chip: Description, name: str, others: Others) -> Callable[[int], float]:
    """The value as a function of its own field; where it is divided by nothing it has no end."""
    known = chip.constants | dict(others)
    slot = chip.own[name]
    if fine := chip.fine.get(name):  # in its middle: then the nearest coarse number is the right one
        known[fine] = (chip.slots()[fine].low + chip.slots()[fine].high + 1) // 2

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


@lru_cache(maxsize=16)
def _curve(chip: Description, name: str, others: Others) -> array[float]:
    """The value for every number of its field."""
    slot, value = chip.slots()[chip.own[name]], _at(chip, name, others)
    return array("d", map(value, range(slot.low, slot.high + 1)))


@lru_cache(maxsize=512)
def raw_of(chip: Description, name: str, applied: float, others: Others = ()) -> int:
    """The number in a value's own field that comes nearest to what is felt: the formula turned round."""
    slot, value = chip.slots()[chip.own[name]], _at(chip, name, others)
    low, high = slot.low, slot.high
    if not _one_way(
        chip, name, others
    ):  # as with an exponent, or a pole: all of two bytes are looked through
        usual, digits = chip.usual.get(slot.name, 0), chip.values[name].digits + 1
        off = (round(abs(amount - applied), digits) for amount in _curve(chip, name, others))
        return min(zip(off, range(low, high + 1), strict=True), key=lambda at: (at[0], abs(at[1] - usual)))[1]
    return _nearest_between(value, applied, low, high)


def _nearest(chip: Description, name: str, field: str, applied: float, known: Mapping[str, float]) -> int:
    """The number of a value's fine field that comes nearest, with its coarse one settled: there it goes one way."""
    slot = chip.slots()[field]
    fields = {**chip.constants, **known}

    def value(raw: int) -> float:
        return chip.amount(name, {**fields, field: raw})

    return _nearest_between(value, applied, slot.low, slot.high)


def _nearest_between(value: Callable[[int], float], applied: float, low: int, high: int) -> int:
    rises = value(high) > value(low)
    while high - low > 1:
        middle = (low + high) // 2
        if (value(middle) < applied) == rises:
            low = middle
        else:
            high = middle
    return min((low, high), key=lambda raw: abs(value(raw) - applied))
