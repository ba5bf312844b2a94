"""A description read: what it says, and every mistake in it."""

from __future__ import annotations

import keyword
from typing import Any, cast

from zapato.lang.document import Document
from zapato.lang.source import Source, table
from zapato.parts.described.description import PATIENT, ChipValue, Description, Example, ReadStep, Setting
from zapato.parts.described.formula import Formula
from zapato.parts.described.shapes import CHIP, EXAMPLE, LOCAL, SETTING, STEP, TERM, VALUE, Written
from zapato.parts.reserved import reserved

TAKEN = frozenset(
    ("chip", "pin", "bus", "address", "every", "change", "select", "level", "fed_from", "current", "label", "because", "gives", "scale",
     "offset", "points", "smooth", "repeat", "module", "supply")
)  # fmt: skip
"""Keys that every sensor's table has."""
WORDS = "words"
"""Where a driver keeps the words of its calibration."""
EXAMPLES = 3
"""Examples of bytes and values that a description has at the least."""


def read_description(source: Source) -> tuple[Description | None, Document]:
    """The description in a file, None where it has errors; they are in the document's findings."""
    document = Document.of(source)
    known = CHIP.by_name.keys() | {
        "zapato",
        "begin",
        "calibration",
        "setting",
        "step",
        "term",
        "value",
        "example",
    }
    for key in document.data.keys() - known:
        document.found("unknown-key", (key,), f"{key} is not a key of a chip's description", of="key")
    head = document.read(
        CHIP, {key: value for key, value in document.data.items() if key in CHIP.by_name}, ()
    )
    begin, calibration, steps = (tuple(_steps(document, word)) for word in ("begin", "calibration", "step"))
    terms, values = _terms(document), _values(document)
    examples = tuple(_examples(document))
    settings = _settings(document)
    description = Description(
        source.path.stem, head, begin, calibration, steps, terms, values, examples, settings
    )
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
                given.get("write") or Written(),
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
        if name in reserved("sensor.Sensor", "i2c_sensor.I2cSensor") | {WORDS}:
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


def _settings(document: Document) -> dict[str, Setting]:
    settings: dict[str, Setting] = {}
    for name, row in table(document.data, "setting").items():
        path = ("setting", name)
        values = table(document.data, "value").keys() | {WORDS}
        taken = {name, f"{name}_counts"} & (
            reserved("sensor.Sensor", "i2c_sensor.I2cSensor") | TAKEN | values
        )
        if (
            not name.isidentifier()
            or name != name.lower()
            or not isinstance(row, dict)
            or taken
            or name in LOCAL
        ):
            words = f"[setting.{name}] is a name of a-z, 0-9 and _ that a sensor and its driver leave free"
            document.found("bad-name", path, words, of="key")
            continue
        given = document.read(SETTING, cast(dict[str, Any], row), path)
        if not given.keys() >= {"options", "default", "counts"}:
            continue
        if given["default"] not in given["options"]:
            document.found(
                "unknown-reference", (*path, "default"), f"{name} has no option {given['default']}"
            )
        elif given["counts"] and given["counts"].keys() != given["options"].keys():
            document.found(
                "wrong-type",
                (*path, "counts"),
                f"counts has the words of options: {', '.join(given['options'])}",
            )
        else:
            settings[name] = Setting(
                name, given.get("help", ""), given["default"], given["options"], given["counts"]
            )
    return settings


def _examples(document: Document) -> list[Example]:
    examples: list[Example] = []
    before: tuple[bytes, ...] = ()
    for at, row in _rows(document, "example"):
        given = document.read(EXAMPLE, row, ("example", at))
        before = given.get("calibration") or before
        if "read" in given and "gives" in given:
            examples.append(
                Example(given["read"], given["gives"], ("example", at), before, given.get("settings", {}))
            )
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
    counted = {name for name, setting in description.settings.items() if setting.counts}
    for name in sorted(
        {name for name in slots if slots.count(name) > 1}
        | names & description.terms.keys()
        | description.settings.keys() & (names | description.terms.keys())
    ):
        document.found(
            "bad-name",
            ("step",),
            f"{name} stands for two things: fields and terms have names of their own",
            of="key",
        )
    names |= counted
    for step in (*description.begin, *description.calibration, *description.steps):
        for _, name in step.write.places:
            if name not in description.settings:
                document.found(
                    "unknown-reference",
                    ("step",),
                    f"a step writes {{{name}}}, and there is no [setting.{name}]",
                    of="key",
                )
    for example in description.examples:
        for name, word in example.settings.items():
            if name not in description.settings or word not in description.settings[name].options:
                document.found(
                    "unknown-reference",
                    (*example.path, "settings"),
                    f"there is no setting {name} with the word {word}",
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
    worked = description.worked_out(example.answers, example.calibration, example.settings)
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
