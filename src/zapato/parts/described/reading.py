"""A description read: what it says, and every mistake in it."""

from __future__ import annotations

import keyword
from typing import Any, cast

from zapato.lang.document import Document
from zapato.lang.source import Source, table
from zapato.parts.described.description import ChipValue, Description, Example, ReadStep, Setting
from zapato.parts.described.formula import Formula
from zapato.parts.described.shapes import (
    CHIP,
    INPUTS,
    LOCAL,
    SETTING,
    STEP,
    TERM,
    VALUE,
    Written,
    example_shape,
)
from zapato.parts.reserved import reserved

TAKEN = frozenset(
    ("chip", "pin", "bus", "address", "every", "change", "select", "level", "fed_from", "current", "label", "because", "gives", "scale",
     "offset", "points", "smooth", "repeat", "module", "supply")
)  # fmt: skip
"""Keys that every sensor's table has."""
WORDS = "words"
"""Where a driver keeps the words of its calibration."""


def read_description(source: Source, judged: bool = True) -> tuple[Description | None, Document]:
    """The description in a file, None where it has errors; they are in the document's findings.

    Not `judged`: whether its tables fit each other and its examples come out is known already.
    """
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
    own = reserved("sensor.Sensor", "i2c_sensor.I2cSensor") if judged else frozenset[str]()
    terms, values = _terms(document), _values(document, own)
    examples = tuple(_examples(document, head.get("bus", "")))
    settings = _settings(document, own)
    description = Description(
        source.path.stem, head, begin, calibration, steps, terms, values, examples, settings
    )
    if judged and not document.findings:
        from zapato.parts.described.consistency import together

        together(document, description)
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
        for key in {"valid", "until"} & row.keys() if word != "step" or "read" not in row else ():
            words = f"{key} goes with a [[step]] that reads"
            document.found("unknown-key", (word, at, key), words, of="key")
        if "until" in row and not given.get("takes"):
            words = "until needs takes: how long it is asked at the most"
            document.found("missing-key", (word, at), words, of="key")
        silent = given.get("busy", "silent") == "silent"
        steps.append(
            ReadStep(
                given.get("write") or Written(),
                given.get("takes", 0),
                silent,
                given.get("read"),
                given.get("valid"),
                given.get("until"),
            )
        )
    return steps


def _values(document: Document, own: frozenset[str]) -> dict[str, ChipValue]:
    values: dict[str, ChipValue] = {}
    for name, row in table(document.data, "value").items():
        path = ("value", name)
        if not name.isidentifier() or name != name.lower() or not isinstance(row, dict):
            document.found("bad-name", path, f"[value.{name}] is a name of a-z, 0-9 and _", of="key")
            continue
        if name in own | {WORDS}:
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


def _settings(document: Document, own: frozenset[str]) -> dict[str, Setting]:
    settings: dict[str, Setting] = {}
    for name, row in table(document.data, "setting").items():
        path = ("setting", name)
        values = table(document.data, "value").keys() | {WORDS}
        taken = {name, f"{name}_counts"} & (own | TAKEN | values)
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


def _examples(document: Document, bus: str) -> list[Example]:
    examples: list[Example] = []
    before: tuple[bytes, ...] = ()
    shape, inputs = example_shape(bus), INPUTS.get(bus, ())
    for at, row in _rows(document, "example"):
        given = document.read(shape, row, ("example", at))
        if inputs and given.keys() >= {*inputs, "gives"}:
            chosen, path = given.get("settings", {}), ("example", at)
            known = {name: given[name] for name in inputs}
            examples.append(Example((), given["gives"], path, settings=chosen, inputs=known))
            continue
        before = given.get("calibration") or before
        if "read" in given and "gives" in given:
            examples.append(
                Example(given["read"], given["gives"], ("example", at), before, given.get("settings", {}))
            )
    return examples
