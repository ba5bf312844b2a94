"""One chip as its file describes it: what is said and heard, and how values follow from it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import field
from functools import cached_property
from types import MappingProxyType
from typing import Any

from zapato.lang.patterns import Slot
from zapato.parts.described.formula import Formula
from zapato.parts.described.layout import Layout
from zapato.parts.described.shapes import INPUTS, Written
from zapato.record import record

PATIENT = 60
"""ms that a driver may wait; for longer ones it begins early and comes again."""


@record(frozen=True, eq=False)
class ReadStep:
    """Something said to the chip, and what it answers."""

    write: Written
    takes: float
    silent: bool
    layout: Layout | None
    valid: Formula | None = None
    until: Formula | None = None

    @property
    def waiting(self) -> bytes:
        """The answer of a step that is asked again, while it is not time yet: its fields all 0, or all their highest where 0 would end it."""
        slots = self.layout.slots if self.layout else {}
        zeros = dict.fromkeys(slots, 0)
        try:
            ends = self.until is None or bool(self.until.value(zeros))
        except ArithmeticError:  # no number is not true
            ends = False
        fields = {name: slot.high for name, slot in slots.items()} if ends else zeros
        return self.layout.make(fields) if self.layout else b""


@record(frozen=True, eq=False)
class ChipValue:
    """A value: its formula, unit, words, range and digits after the point."""

    name: str
    formula: Formula
    unit: str
    help: str
    low: float | None
    high: float | None
    digits: int
    moves: str = ""


@record(frozen=True, eq=False)
class Example:
    """Bytes out of the datasheet, and the values that it says they are."""

    answers: tuple[bytes, ...]
    gives: Mapping[str, float]
    path: tuple[str | int, ...] = ()
    calibration: tuple[bytes, ...] = ()
    settings: Mapping[str, str] = field(default_factory=dict[str, str])
    inputs: Mapping[str, float] = field(default_factory=dict[str, float])


@record(frozen=True, eq=False)
class Setting:
    """What a device file may set: its words, the byte of each, and what formulas read."""

    name: str
    help: str
    default: str
    options: Mapping[str, int]
    counts: Mapping[str, float]


@record(eq=False)
class Description:
    """One chip as its file describes it."""

    name: str
    head: Mapping[str, Any]
    begin: tuple[ReadStep, ...] = ()
    calibration: tuple[ReadStep, ...] = ()
    steps: tuple[ReadStep, ...] = ()
    terms: Mapping[str, Formula] = field(default_factory=dict[str, Formula])
    values: Mapping[str, ChipValue] = field(default_factory=dict[str, ChipValue])
    examples: tuple[Example, ...] = ()
    settings: Mapping[str, Setting] = field(default_factory=dict[str, Setting])

    @property
    def reading(self) -> list[ReadStep]:
        return [step for step in self.steps if step.layout]

    @property
    def early(self) -> bool:
        """Whether setting it up takes so long that the driver does not wait for it."""
        return sum(step.takes for step in self.begin) > PATIENT

    @property
    def pieces(self) -> int:
        """How much of a program it becomes: pieces of formulas, steps and fields."""
        layouts = [step.layout for step in (*self.calibration, *self.reading) if step.layout]
        slots = sum(len(layout.slots) + 2 * len(layout.checks) for layout in layouts)
        formulas = [*self.terms.values(), *(value.formula for value in self.values.values())]
        formulas += [step.valid for step in self.steps if step.valid]
        formulas += [step.until for step in self.steps if step.until]
        steps = len((*self.begin, *self.calibration, *self.steps))
        return sum(formula.pieces for formula in formulas) + 6 * steps + 6 * slots + 8 * len(self.settings)

    @property
    def on_spi(self) -> bool:
        return self.head["bus"] == "spi"

    @property
    def said_first(self) -> bool:
        """Whether anything is written to it."""
        return any(step.write for step in (*self.begin, *self.calibration, *self.steps))

    @property
    def on_wire(self) -> bool:
        return self.head["bus"] == "onewire"

    @property
    def inputs(self) -> tuple[str, ...]:
        """What the formulas of a chip without answers read: its volts, or its pulses."""
        return INPUTS.get(self.head["bus"], ())

    def of_inputs(
        self, inputs: Mapping[str, float], chosen: Mapping[str, str] = MappingProxyType({})
    ) -> dict[str, float] | None:
        """The values of one without answers; None where they are no numbers."""
        fields = {**self.counts(chosen), **inputs}
        try:
            return {name: round(self.amount(name, fields), v.digits) for name, v in self.values.items()}
        except (ArithmeticError, ValueError, TypeError):
            return None

    @property
    def constants(self) -> dict[str, float]:
        """The calibration of the first example, what a stand-in has in its memory; and what formulas read of settings at their usual words."""
        fields = _decoded(self.calibration, self.examples[0].calibration) if self.examples else None
        return {**self.counts({}), **(fields or {})}

    def counts(self, chosen: Mapping[str, str]) -> dict[str, float]:
        """What formulas read of the settings, with these words or the usual ones."""
        return {
            name: setting.counts[chosen.get(name, setting.default)]
            for name, setting in self.settings.items()
            if setting.counts
        }

    def said(self, step: ReadStep, chosen: Mapping[str, str] = MappingProxyType({})) -> bytes:
        """What is written, with these words of settings or the usual ones."""
        return step.write.of(
            {name: s.options[chosen.get(name, s.default)] for name, s in self.settings.items()}
        )

    @property
    def written_settings(self) -> list[str]:
        """The settings whose byte a step writes."""
        steps = (*self.begin, *self.calibration, *self.steps)
        places = {name for step in steps for _, name in step.write.places}
        return [name for name in self.settings if name in places]

    @property
    def read_settings(self) -> list[str]:
        """The settings that a formula reads."""
        formulas = [*self.terms.values(), *(value.formula for value in self.values.values())]
        read = {name for formula in formulas for name in formula.names}
        return [name for name in self.settings if name in read]

    @cached_property
    def usual(self) -> dict[str, int]:
        """The fields of the steps as the first example has them."""
        return (_decoded(self.reading, self.examples[0].answers) if self.examples else None) or {}

    def slots(self) -> dict[str, Slot]:
        """The fields of the steps, by name."""
        layouts = [step.layout for step in self.reading if step.layout]
        return {name: slot for layout in layouts for name, slot in layout.slots.items()}

    def reached(self, formula: Formula) -> set[str]:
        """Every name that a formula comes down to: fields, of steps and of the calibration, and terms."""
        names = set(formula.names)
        for term in reversed([*self.terms]):
            if term in names:
                names |= self.terms[term].names
        return names

    @cached_property
    def own(self) -> dict[str, str]:
        """The field that carries each value, where there is one: the only one of the value's that carries none before it."""
        own = {name: value.moves.split()[0] for name, value in self.values.items() if value.moves}
        rest = {name: value for name, value in self.values.items() if not value.moves}
        while True:
            of = {
                name: self.reached(value.formula) & self.slots().keys() - {*own.values()}
                for name, value in rest.items()
            }
            name = next((name for name, fields in of.items() if len(fields) == 1), None)
            if name is None:
                return own
            own[name] = of[name].pop()
            del rest[name]

    @cached_property
    def fine(self) -> dict[str, str]:
        """The field with the fine part of a value that stands in two fields, as a float does."""
        return {
            name: value.moves.split()[1]
            for name, value in self.values.items()
            if len(value.moves.split()) > 1
        }

    def amount(self, name: str, fields: Mapping[str, float]) -> float:
        """A value of these fields, not rounded. Raises ArithmeticError."""
        wanted, known = self.values[name].formula, dict(fields)
        reached = self.reached(wanted)
        for term, formula in self.terms.items():
            if term in reached:
                known[term] = formula.value(known)
        return wanted.value(known)

    def worked_out(
        self,
        answers: tuple[bytes, ...],
        calibration: tuple[bytes, ...] | None = None,
        chosen: Mapping[str, str] = MappingProxyType({}),
    ) -> dict[str, float] | None:
        """The values of the bytes of each step that reads, with the first example's calibration or this one, and settings at these words or the usual ones; None where they are no answers of this chip, or not valid."""
        constants: Mapping[str, float] | None = (
            self.constants if calibration is None else _decoded(self.calibration, calibration)
        )
        read = _decoded(self.reading, answers)
        if read is None or constants is None:
            return None
        fields = {**constants, **self.counts(chosen), **read}
        try:
            conditions = (each for step in self.steps for each in (step.valid, step.until) if each)
            if not all(condition.value(fields) for condition in conditions):
                return None
            return {
                name: round(self.amount(name, fields), value.digits) for name, value in self.values.items()
            }
        except (ArithmeticError, ValueError, TypeError):
            return None


def _decoded(steps: Sequence[ReadStep], answers: tuple[bytes, ...]) -> dict[str, int] | None:
    """The fields of the answers to these steps; None where one is no answer."""
    fields: dict[str, int] = {}
    for step, data in zip(steps, answers, strict=False):
        decoded = step.layout.read(data) if step.layout else None
        if decoded is None:
            return None
        fields |= decoded
    return fields


def class_name(name: str) -> str:
    """The class of the driver that is made of the description of this name."""
    return "Chip" + "".join(word.capitalize() for word in name.split("_"))
