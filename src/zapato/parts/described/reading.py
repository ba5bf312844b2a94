"""A description read: what it says, and every mistake in it."""

from __future__ import annotations

import keyword
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, cast

from zapato.lang.document import Document
from zapato.lang.fields import REQUIRED, Field, Shape, Wrong, choice, measured, number, span, text, whole
from zapato.lang.patterns import Slot
from zapato.lang.source import Source, table
from zapato.parts.described.formula import Formula, read_formula
from zapato.parts.described.layout import Layout, read_layout
from zapato.parts.registers import read_unit
from zapato.parts.reserved import reserved

PATIENT = 60
"""ms that a driver may wait; for longer ones it begins early and comes again."""
LOCAL = ("b", "self", "time", "round", "crc8")
"""What a driver's own lines read, so that no field may be called so."""
EXAMPLES = 3
"""Examples of bytes and values that a description has at the least."""


def _read_bytes(value: object) -> bytes:
    try:
        data = bytes.fromhex(value) if isinstance(value, str) else b""
    except ValueError:
        data = b""
    if not 0 < len(data) <= 16:
        raise Wrong('takes bytes in hexadecimal digits: "24 00"')
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
    return tuple(_read_bytes(item) for item in items)


def _read_gives(value: object) -> dict[str, float]:
    rows = cast(dict[str, object], value) if isinstance(value, dict) else {}
    if not rows or not all(type(row) in (int, float) for row in rows.values()):
        raise Wrong("takes values: { temperature = 25.0 }")
    return {name: float(cast(float, amount)) for name, amount in rows.items()}


CHIP = Shape(
    (
        text("help", "one sentence: what it measures, over what", REQUIRED),
        text("source", "the datasheet and the sections of its figures", REQUIRED, most=1000),
        Field("addresses", _read_addresses, {"type": "array"}, "the I2C addresses it can have, the usual one first", REQUIRED),
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
    )
)  # fmt: skip
VALUE = Shape(
    (
        Field("of", _read_formula, {"type": "string"}, "how it follows from the fields", REQUIRED),
        Field("unit", read_unit, {"type": "string"}, "a unit of the SenML registry", ""),
        text("help", "what it is", ""),
        number("low", "the least that it can be"),
        number("high", "the most"),
        whole("digits", "digits after the point", 2, least=0, most=6),
    )
)
EXAMPLE = Shape(
    (
        Field("read", _read_answers, {"type": "array"}, "the bytes of each step that reads", REQUIRED),
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


@dataclass(frozen=True, eq=False)
class Example:
    """Bytes out of the datasheet, and the values that it says they are."""

    answers: tuple[bytes, ...]
    gives: Mapping[str, float]
    path: tuple[str | int, ...] = ()


@dataclass(frozen=True, eq=False)
class Description:
    """One chip as its file describes it."""

    name: str
    head: Mapping[str, Any]
    begin: tuple[ReadStep, ...] = ()
    steps: tuple[ReadStep, ...] = ()
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
        slots = sum(
            len(step.layout.slots) + 2 * len(step.layout.checks) for step in self.reading if step.layout
        )
        return (
            sum(value.formula.pieces for value in self.values.values())
            + 6 * len((*self.begin, *self.steps))
            + 6 * slots
        )

    def worked_out(self, answers: tuple[bytes, ...]) -> dict[str, float] | None:
        """The values of the bytes of each step that reads; None where they are no answers of this chip."""
        fields: dict[str, int] = {}
        for step, data in zip(self.reading, answers, strict=False):
            decoded = step.layout.read(data) if step.layout else None
            if decoded is None:
                return None
            fields |= decoded
        try:
            return {
                name: round(value.formula.value(fields), value.digits) for name, value in self.values.items()
            }
        except (ArithmeticError, ValueError, TypeError):
            return None


def read_description(source: Source) -> tuple[Description | None, Document]:
    """The description in a file, None where it has errors; they are in the document's findings."""
    document = Document.of(source)
    known = CHIP.by_name.keys() | {"zapato", "begin", "step", "value", "example"}
    for key in document.data.keys() - known:
        document.found("unknown-key", (key,), f"{key} is not a key of a chip's description", of="key")
    head = document.read(
        CHIP, {key: value for key, value in document.data.items() if key in CHIP.by_name}, ()
    )
    begin, steps = (tuple(_steps(document, word)) for word in ("begin", "step"))
    values = _values(document)
    description = Description(source.path.stem, head, begin, steps, values, tuple(_examples(document)))
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
        silent = given.get("busy", "silent") == "silent"
        steps.append(ReadStep(given.get("write") or b"", given.get("takes", 0), silent, given.get("read")))
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
            more = (given.get(key) for key in ("unit", "help", "low", "high", "digits"))
            values[name] = ChipValue(name, given["of"], *more)  # type: ignore[arg-type]
    return values


def _examples(document: Document) -> list[Example]:
    examples: list[Example] = []
    for at, row in _rows(document, "example"):
        given = document.read(EXAMPLE, row, ("example", at))
        if "read" in given and "gives" in given:
            examples.append(Example(given["read"], given["gives"], ("example", at)))
    return examples


def _together(document: Document, description: Description) -> None:
    """What holds between the tables: names, and the datasheet's own examples."""
    names = {name for step in description.reading if step.layout for name in step.layout.slots}
    if not description.reading or not description.values:
        document.found(
            "missing-key",
            ("step",),
            "a description needs a [[step]] that reads, and a [value.NAME]",
            of="key",
        )
        return
    for value in description.values.values():
        for name in sorted(value.formula.names - names):
            document.found("unknown-reference", ("value", value.name, "of"), f"no answer has a field {name}")
    if len(description.examples) < EXAMPLES:
        words = f"it has {len(description.examples)} [[example]]; {EXAMPLES} are the least, one below zero or at an edge"
        document.found("missing-key", ("example",), words, of="key")
    for value in description.values.values() if not document.findings else ():
        _bounded(
            document,
            value,
            {
                name: slot
                for step in description.reading
                if step.layout
                for name, slot in step.layout.slots.items()
            },
        )
    if document.findings:
        return
    for example in description.examples:
        _comes_out(document, description, example)


def _bounded(document: Document, value: ChipValue, slots: Mapping[str, Slot]) -> None:
    """At the ends of its fields a formula gives a number, too; a division by zero is told by the device as a failed reading."""
    for end in ("low", "high"):
        try:
            value.formula.value({name: getattr(slots[name], end) for name in value.formula.names})
        except ZeroDivisionError:
            continue
        except (ArithmeticError, ValueError, TypeError) as error:
            words = f"of gives no number where its fields are at their {end} end: {error}"
            document.found("wrong-type", ("value", value.name, "of"), words)
            return


def _comes_out(document: Document, description: Description, example: Example) -> None:
    """The bytes of an example give its values, by the formulas that the driver and the stand-in are made of."""
    if len(example.answers) != len(description.reading):
        words = f"read has {len(example.answers)} answers, and {len(description.reading)} steps read"
        document.found("wrong-type", (*example.path, "read"), words)
        return
    worked = description.worked_out(example.answers)
    if worked is None:
        document.found(
            "wrong-type",
            (*example.path, "read"),
            "these bytes are no answer as [[step]] describes it, or their check byte is wrong",
        )
        return
    for name, value in example.gives.items():
        if name not in worked:
            document.found("unknown-reference", (*example.path, "gives"), f"there is no value {name}")
        elif abs(worked[name] - value) > 0.51 * 10 ** -description.values[name].digits:
            words = f"{name} of these bytes is {worked[name]:g} by its formula, and {value:g} by the example"
            document.found("wrong-type", (*example.path, "gives"), words)
