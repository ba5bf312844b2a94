"""A description read: what it says, and every mistake in it."""

from __future__ import annotations

import keyword
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, cast

from zapato.lang.document import Document
from zapato.lang.fields import REQUIRED, Field, Shape, Wrong, choice, measured, number, span, text, whole
from zapato.lang.patterns import Slot
from zapato.lang.source import Source, table
from zapato.parts.described.formula import Formula, read_formula
from zapato.parts.described.layout import LONGEST, Layout, read_layout
from zapato.parts.registers import read_unit
from zapato.parts.reserved import reserved

PATIENT = 60
"""ms that a driver may wait; for longer ones it begins early and comes again."""
LOCAL = ("b", "self", "time", "round", "crc8", "abs")
"""What a driver's own lines read, so that no field may be called so."""
EXAMPLES = 3
"""Examples of bytes and values that a description has at the least."""


def _read_bytes(value: object, most: int = 16) -> bytes:
    try:
        data = bytes.fromhex(value) if isinstance(value, str) else b""
    except ValueError:
        data = b""
    if not 0 < len(data) <= most:
        raise Wrong(f'takes 1 to {most} bytes in hexadecimal digits: "24 00"')
    return data


def _read_layout(value: object) -> Layout:
    if not isinstance(value, str):
        raise Wrong('takes the bytes of an answer: "{t:u16} {crc8}"')
    layout = read_layout(value)
    for name in layout.slots:
        if name in LOCAL or keyword.iskeyword(name) or name.startswith("_"):
            raise Wrong(
                f'has the field "{name}", which the driver uses for itself', f"{name}_1, or another name"
            )
    return layout


def _read_formula(value: object) -> Formula:
    if not isinstance(value, str):
        raise Wrong('takes a formula: "-45 + 175 * t / 65535"')
    return read_formula(value)


def _read_addresses(value: object) -> tuple[int, ...]:
    items = cast(list[object], value) if isinstance(value, list) else [value]
    if not items or not all(type(item) is int and 8 <= item < 120 for item in items):
        raise Wrong("takes addresses of seven bits, the usual one first: [0x48, 0x49]")
    return tuple(cast(list[int], items))


def _read_answers(value: object) -> tuple[bytes, ...]:
    items = cast(list[object], value) if isinstance(value, list) else [value]
    return tuple(_read_bytes(item, LONGEST) for item in items)


def _read_gives(value: object) -> dict[str, float]:
    rows = cast(dict[str, object], value) if isinstance(value, dict) else {}
    if not rows or not all(type(row) in (int, float) for row in rows.values()):
        raise Wrong("takes values: { temperature = 25.0 }")
    return {name: float(cast(float, amount)) for name, amount in rows.items()}


CHIP = Shape(
    (
        text("help", "one sentence: what it measures, over what", REQUIRED),
        text("source", "the datasheet and the sections of its figures", REQUIRED, most=1000),
        choice("bus", "its bus; one on SPI is only read, with its select line low", "i2c", "spi", default="i2c"),
        Field("addresses", _read_addresses, {"type": "array"}, "the I2C addresses it can have, the usual one first", ()),
        measured("bus_most", "the fastest clock of its bus", "Hz", None),
        span("supply", "V at its supply, least and most: \"1.7V-3.6V\"", "V"),
        number("reads_high", "the share of its supply from which its inputs read high", 0.0),
        measured("fastest", "the shortest time between two readings", "time", 50),
        measured("start", "from power-up until it listens", "time", 20, most=5000),
        measured("draws", "its largest current", "A", 0.0),
        text("wiring", "how it is wired", "", most=1000),
    )
)  # fmt: skip
STEP = Shape(
    (
        Field("write", _read_bytes, {"type": "string"}, "bytes that are written, in hexadecimal digits", None),
        measured("takes", "how long the chip is busy then, by its datasheet's longest", "time", 0, most=2000),
        choice("busy", "what it answers meanwhile: nothing, or zeros", "silent", "zeros", default="silent"),
        Field("read", _read_layout, {"type": "string"}, "the answer that is read: \"{t:u16} {crc8}\"", None),
        Field("valid", _read_formula, {"type": "string"}, "what is true of its fields where the reading counts: \"s & 8\"", None),
    )
)  # fmt: skip
TERM = Shape(
    (
        Field(
            "of",
            _read_formula,
            {"type": "string"},
            "how it follows from the fields and the terms before it",
            REQUIRED,
        ),
    )
)
VALUE = Shape(
    (
        Field("of", _read_formula, {"type": "string"}, "how it follows from the fields", REQUIRED),
        Field("unit", read_unit, {"type": "string"}, "a unit of the SenML registry", ""),
        text("help", "what it is", ""),
        number("low", "the least that it can be"),
        number("high", "the most"),
        whole("digits", "digits after the point", 2, least=0, most=6),
        text(
            "moves",
            "where it reads several fields: the one that a rehearsal changes; the others stay as in the first example",
            "",
            most=40,
        ),
    )
)
EXAMPLE = Shape(
    (
        Field("read", _read_answers, {"type": "array"}, "the bytes of each step that reads", REQUIRED),
        Field(
            "calibration",
            _read_answers,
            {"type": "array"},
            "the bytes of each [[calibration]]; by default those of the example before",
            None,
        ),
        Field("gives", _read_gives, {"type": "object"}, "the values that they are", REQUIRED),
        text("source", "where the datasheet says so", "", most=400),
    )
)


@dataclass(frozen=True, eq=False)
class ReadStep:
    """Something said to the chip, and what it answers."""

    write: bytes
    takes: float
    silent: bool
    layout: Layout | None
    valid: Formula | None = None


@dataclass(frozen=True, eq=False)
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


@dataclass(frozen=True, eq=False)
class Example:
    """Bytes out of the datasheet, and the values that it says they are."""

    answers: tuple[bytes, ...]
    gives: Mapping[str, float]
    path: tuple[str | int, ...] = ()
    calibration: tuple[bytes, ...] = ()


@dataclass(eq=False)
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
        steps = len((*self.begin, *self.calibration, *self.steps))
        return sum(formula.pieces for formula in formulas) + 6 * steps + 6 * slots

    @property
    def on_spi(self) -> bool:
        return self.head["bus"] == "spi"

    @property
    def constants(self) -> dict[str, int]:
        """The calibration of the first example: what a stand-in has in its memory."""
        fields = _decoded(self.calibration, self.examples[0].calibration) if self.examples else None
        return fields or {}

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
        own = {name: value.moves for name, value in self.values.items() if value.moves}
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

    def amount(self, name: str, fields: Mapping[str, float]) -> float:
        """A value of these fields, not rounded. Raises ArithmeticError."""
        wanted, known = self.values[name].formula, dict(fields)
        reached = self.reached(wanted)
        for term, formula in self.terms.items():
            if term in reached:
                known[term] = formula.value(known)
        return wanted.value(known)

    def worked_out(
        self, answers: tuple[bytes, ...], calibration: tuple[bytes, ...] | None = None
    ) -> dict[str, float] | None:
        """The values of the bytes of each step that reads, with the first example's calibration or this one; None where they are no answers of this chip, or not valid."""
        constants = self.constants if calibration is None else _decoded(self.calibration, calibration)
        read = _decoded(self.reading, answers)
        if read is None or constants is None:
            return None
        fields = constants | read
        try:
            if not all(step.valid.value(fields) for step in self.steps if step.valid):
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


def read_description(source: Source) -> tuple[Description | None, Document]:
    """The description in a file, None where it has errors; they are in the document's findings."""
    document = Document.of(source)
    known = CHIP.by_name.keys() | {"zapato", "begin", "calibration", "step", "term", "value", "example"}
    for key in document.data.keys() - known:
        document.found("unknown-key", (key,), f"{key} is not a key of a chip's description", of="key")
    head = document.read(
        CHIP, {key: value for key, value in document.data.items() if key in CHIP.by_name}, ()
    )
    begin, calibration, steps = (tuple(_steps(document, word)) for word in ("begin", "calibration", "step"))
    terms, values = _terms(document), _values(document)
    examples = tuple(_examples(document))
    description = Description(source.path.stem, head, begin, calibration, steps, terms, values, examples)
    if not document.findings:
        _together(document, description)
    return (None if document.findings else description), document


def _rows(document: Document, word: str) -> list[tuple[int, dict[str, Any]]]:
    raw = document.data.get(word, [])
    rows = cast(list[object], raw) if isinstance(raw, list) else []
    if (raw and not all(isinstance(row, dict) for row in rows or [raw])) or not isinstance(raw, list):
        document.found("wrong-type", (word,), f"{word} stands in double brackets: [[{word}]]", of="key")
    return [(at, cast(dict[str, Any], row)) for at, row in enumerate(rows) if isinstance(row, dict)]


def _steps(document: Document, word: str) -> list[ReadStep]:
    steps: list[ReadStep] = []
    for at, row in _rows(document, word):
        given = document.read(STEP, row, (word, at))
        if not row.keys() & {"write", "read"}:
            document.found("missing-key", (word, at), f"[[{word}]] needs write or read", of="key")
        if word == "begin" and "read" in row:
            document.found(
                "unknown-key",
                (word, at, "read"),
                "[[begin]] only writes: what it would read nobody looks at",
                of="key",
            )
        if word == "calibration" and "read" not in row:
            document.found("missing-key", (word, at), "[[calibration]] needs read", of="key")
        if "valid" in row and (word != "step" or "read" not in row):
            document.found(
                "unknown-key", (word, at, "valid"), "valid goes with a [[step]] that reads", of="key"
            )
        silent = given.get("busy", "silent") == "silent"
        steps.append(
            ReadStep(
                given.get("write") or b"",
                given.get("takes", 0),
                silent,
                given.get("read"),
                given.get("valid"),
            )
        )
    return steps


def _values(document: Document) -> dict[str, ChipValue]:
    values: dict[str, ChipValue] = {}
    for name, row in table(document.data, "value").items():
        path = ("value", name)
        if not name.isidentifier() or name != name.lower() or not isinstance(row, dict):
            document.found("bad-name", path, f"[value.{name}] is a name of a-z, 0-9 and _", of="key")
            continue
        if name in reserved("sensor.Sensor", "i2c_sensor.I2cSensor"):
            document.found(
                "bad-name", path, f"[value.{name}]: the program uses this name for itself", of="key"
            )
            continue
        given = document.read(VALUE, cast(dict[str, Any], row), path)
        if "of" in given:
            more = (given.get(key) for key in ("unit", "help", "low", "high", "digits", "moves"))
            values[name] = ChipValue(name, given["of"], *more)  # type: ignore[arg-type]
    return values


def _terms(document: Document) -> dict[str, Formula]:
    """Steps of a long formula, each with those before it in reach."""
    terms: dict[str, Formula] = {}
    for name, row in table(document.data, "term").items():
        path = ("term", name)
        taken = name in LOCAL or keyword.iskeyword(name) or name.startswith("_")
        if not name.isidentifier() or name != name.lower() or not isinstance(row, dict) or taken:
            document.found(
                "bad-name",
                path,
                f"[term.{name}] is a name of a-z, 0-9 and _ that the driver leaves free",
                of="key",
            )
            continue
        given = document.read(TERM, cast(dict[str, Any], row), path)
        if "of" in given:
            terms[name] = given["of"]
    return terms


def _examples(document: Document) -> list[Example]:
    examples: list[Example] = []
    before: tuple[bytes, ...] = ()
    for at, row in _rows(document, "example"):
        given = document.read(EXAMPLE, row, ("example", at))
        before = given.get("calibration") or before
        if "read" in given and "gives" in given:
            examples.append(Example(given["read"], given["gives"], ("example", at), before))
    return examples


def _together(document: Document, description: Description) -> None:
    """What holds between the tables: names, and the datasheet's own examples."""
    if not description.reading or not description.values:
        document.found(
            "missing-key",
            ("step",),
            "a description needs a [[step]] that reads, and a [value.NAME]",
            of="key",
        )
        return
    _known_names(document, description)
    _bus(document, description)
    if len(description.examples) < EXAMPLES:
        words = f"it has {len(description.examples)} [[example]]; {EXAMPLES} are the least, one below zero or at an edge"
        document.found("missing-key", ("example",), words, of="key")
    if sum(step.takes for step in description.begin[:-1]) > PATIENT:
        words = f"only the last [[begin]] may take more than {PATIENT} ms: nothing else runs while the driver waits"
        document.found("wrong-type", ("begin",), words, of="key")
    if description.calibration and description.early:
        words = f"begin takes more than {PATIENT} ms, and nothing waits for it before the calibration is read"
        document.found("wrong-type", ("begin",), words, of="key")
    if any(len(example.calibration) != len(description.calibration) for example in description.examples):
        words = f"the first example needs the bytes of each [[calibration]]: {len(description.calibration)}"
        document.found("missing-key", ("example",), words, of="key")
    for name in description.values if not document.findings else ():
        _bounded(document, description, name)
    if document.findings:
        return
    for example in description.examples:
        _comes_out(document, description, example)


def _bus(document: Document, description: Description) -> None:
    """What each bus asks for, and what it has no place for."""
    if not description.on_spi and not description.head["addresses"]:
        document.found(
            "missing-key",
            ("addresses",),
            "addresses is missing: a chip on I2C has one at the least",
            of="key",
        )
    said = any(step.write for step in (*description.begin, *description.calibration, *description.steps))
    if description.on_spi and (said or description.head["addresses"] or len(description.steps) != 1):
        words = "a chip on SPI has no addresses and one [[step]] that reads; one that is written to is an extension with a driver"
        document.found("wrong-type", ("bus",), words, of="key")


def _known_names(document: Document, description: Description) -> None:
    """Every name of a formula is a field or a term before it; none stands for two things."""
    slots = [
        name
        for step in (*description.calibration, *description.reading)
        if step.layout
        for name in step.layout.slots
    ]
    names = set(slots)
    for name in sorted({name for name in slots if slots.count(name) > 1} | names & description.terms.keys()):
        document.found(
            "bad-name",
            ("step",),
            f"{name} stands for two things: fields and terms have names of their own",
            of="key",
        )
    for term, formula in description.terms.items():
        for name in sorted(formula.names - names):
            document.found(
                "unknown-reference", ("term", term, "of"), f"no field and no term before it is called {name}"
            )
        names.add(term)
    for value in description.values.values():
        for name in sorted(value.formula.names - names):
            document.found("unknown-reference", ("value", value.name, "of"), f"no answer has a field {name}")
        if value.moves and value.moves not in description.reached(value.formula) & description.slots().keys():
            document.found(
                "unknown-reference",
                ("value", value.name, "moves"),
                f"its formula comes down to no field {value.moves}",
            )
    for at, step in enumerate(description.steps):
        own = step.layout.slots.keys() if step.layout else set[str]()
        for name in sorted(step.valid.names - own if step.valid else ()):
            document.found("unknown-reference", ("step", at, "valid"), f"this answer has no field {name}")


def _bounded(document: Document, description: Description, value: str) -> None:
    """At the ends of its fields a formula gives a number, too; a division by zero is told by the device as a failed reading."""
    slots = description.slots()
    for end in ("low", "high"):
        try:
            description.amount(
                value, description.constants | {name: getattr(slot, end) for name, slot in slots.items()}
            )
        except ZeroDivisionError:
            continue
        except (ArithmeticError, ValueError, TypeError) as error:
            words = f"of gives no number where its fields are at their {end} end: {error}"
            document.found("wrong-type", ("value", value, "of"), words)
            return


def _comes_out(document: Document, description: Description, example: Example) -> None:
    """The bytes of an example give its values, by the formulas that the driver and the stand-in are made of."""
    if len(example.answers) != len(description.reading):
        words = f"read has {len(example.answers)} answers, and {len(description.reading)} steps read"
        document.found("wrong-type", (*example.path, "read"), words)
        return
    worked = description.worked_out(example.answers, example.calibration)
    if worked is None:
        document.found(
            "wrong-type",
            (*example.path, "read"),
            "these bytes are no answer as [[step]] describes it, not valid, or their check byte is wrong",
        )
        return
    for name, value in example.gives.items():
        if name not in worked:
            document.found("unknown-reference", (*example.path, "gives"), f"there is no value {name}")
        elif abs(worked[name] - value) > 0.51 * 10 ** -description.values[name].digits:
            words = f"{name} of these bytes is {worked[name]:g} by its formula, and {value:g} by the example"
            document.found("wrong-type", (*example.path, "gives"), words)
