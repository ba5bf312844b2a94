"""What holds between the tables of a description: names, buses, bounds, and the datasheet's own examples."""

from __future__ import annotations

from collections.abc import Mapping

from zapato.lang.document import Document
from zapato.parts.described.description import PATIENT, ChipValue, Description, Example, ReadStep
from zapato.parts.described.shapes import COUNT, RATE, VOLTS
from zapato.parts.reserved import reserved

EXAMPLES = 3
"""Examples of bytes and values that a description has at the least."""


def together(document: Document, description: Description) -> None:
    """What holds between the tables: names, and the datasheet's own examples."""
    if description.inputs:
        _without_answers(document, description)
        return
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
    _enough(document, description)
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


WITHOUT = {
    "analog": ("a chip with a voltage output has range and [value.NAME], and neither addresses nor steps", "range", "s_analog.Analog", "divider"),
    "pulse": ("a chip that gives pulses has pulses_most and [value.NAME], and neither addresses nor steps", "pulses_most", "s_pulse.Pulse", "active"),
}  # fmt: skip
"""Of chips without answers: what is told of one that is not whole, the key that it must have, whose names it cannot have, and a key of its table."""


def _without_answers(document: Document, description: Description) -> None:
    """One with a voltage or with pulses: nothing is said to it, its formulas read those, its bounds and its examples hold."""
    parts = (description.begin, description.calibration, description.steps)
    words, must, driver, key = WITHOUT[description.head["bus"]]
    if any(parts) or description.head["addresses"] or not description.values or not description.head[must]:
        document.found("wrong-type", ("bus",), words, of="key")
        return
    own, inputs = reserved(driver), {*description.inputs}
    taken = (own - inputs & description.values.keys()) | (inputs & description.terms.keys())
    taken |= (own & description.values.keys()) | ((inputs | {key} | own) & description.settings.keys())
    for name in sorted(taken):
        document.found("bad-name", ("bus",), f"{name}: the program uses this name for itself", of="key")
    _known_names(document, description)
    _enough(document, description)
    for name, value in description.values.items() if not document.findings else ():
        for end in _ends(description):
            if description.of_inputs(end) is None:
                at = " and ".join(f"{key} = {amount:g}" for key, amount in end.items())
                document.found(
                    "wrong-type", ("value", name, "of"), f"of gives no number at {at}, an end of its range"
                )
        if value.moves:
            words = "moves names a field of an answer, and it has none"
            document.found("wrong-type", ("value", name, "moves"), words, of="key")
    for example in description.examples if not document.findings else ():
        worked = description.of_inputs(example.inputs, example.settings)
        _gives(document, description, example, worked or {})


def _ends(description: Description) -> list[dict[str, float]]:
    """The least and the most of what its formulas read."""
    if description.head["bus"] == "analog":
        return [{VOLTS: end} for end in description.head["range"]]
    return [{COUNT: 0, RATE: 0.0}, {COUNT: 1 << 29, RATE: description.head["pulses_most"]}]


def _enough(document: Document, description: Description) -> None:
    if len(description.examples) < EXAMPLES:
        words = f"it has {len(description.examples)} [[example]]; {EXAMPLES} are the least, one below zero or at an edge"
        document.found("missing-key", ("example",), words, of="key")


def _bus(document: Document, description: Description) -> None:
    """What each bus asks for, and what it has no place for."""
    if description.on_wire or description.head["family"]:
        _on_wire(document, description)
        return
    if any(check.low for step in description.reading if step.layout for check in step.layout.checks):
        words = "{crc8:low} is the check byte of chips on a one-wire bus"
        document.found("wrong-type", ("step",), words, of="key")
    if not description.on_spi and not description.head["addresses"]:
        document.found(
            "missing-key",
            ("addresses",),
            "addresses is missing: a chip on I2C has one at the least",
            of="key",
        )
    if description.on_spi and (description.head["addresses"] or description.head["repeated"]):
        words = (
            "a chip on SPI has neither addresses nor a repeated start: its select line says that it is meant"
        )
        document.found("wrong-type", ("bus",), words, of="key")
    if description.head["mode"] and not description.on_spi:
        document.found("wrong-type", ("mode",), "mode belongs to a chip on SPI", of="key")
    reading = (*description.calibration, *description.reading)
    if description.on_spi and description.said_first and not all(step.write for step in reading):
        words = "on SPI what is read follows on what is written in the same step: its command or register"
        document.found("missing-key", ("step",), words, of="key")
    if description.on_spi and not description.said_first and len(description.steps) != 1:
        document.found("wrong-type", ("step",), "a chip on SPI that is only read has one [[step]]", of="key")
    if description.head["repeated"] and not all(
        len(step.write.data) == 1 and not step.takes for step in reading
    ):
        words = "with a repeated start each step that reads writes one byte before, its register, and takes no time between"
        document.found("wrong-type", ("repeated",), words, of="key")


def _on_wire(document: Document, description: Description) -> None:
    """A chip on a one-wire bus measures when it is told, and is read afterwards."""
    head, steps = description.head, description.steps
    if not description.on_wire or not head["family"]:
        words = (
            'family goes with bus = "onewire", and a chip there has one: the first byte of its serial number'
        )
        document.found("missing-key", ("bus",), words, of="key")
    if head["addresses"] or head["repeated"] or head["mode"] or description.begin or description.calibration:
        words = "a chip on a one-wire bus has neither addresses nor a mode, [[begin]] or [[calibration]]: its serial number says which is meant"
        document.found("wrong-type", ("bus",), words, of="key")
    if any(not step.write or step.until for step in steps):
        document.found(
            "missing-key",
            ("step",),
            "on a one-wire bus each [[step]] begins with a command, and has no until",
            of="key",
        )
    if any(step.takes for step in steps[1:]) or (steps[0].takes and steps[0].layout):
        words = (
            "on a one-wire bus the first [[step]] measures and takes its time; what is read comes after it"
        )
        document.found("wrong-type", ("step",), words, of="key")


def _known_names(document: Document, description: Description) -> None:
    """Every name of a formula is a field or a term before it; none stands for two things."""
    _fields_apart(document, description)
    _settings_known(document, description)
    slots = {name for step in (*description.calibration, *description.reading) for name in _slots(step)}
    counted = {name for name, setting in description.settings.items() if setting.counts}
    names = slots | counted | {*description.inputs}
    for term, formula in description.terms.items():
        for name in sorted(formula.names - names):
            words = f"no field and no term before it is called {name}"
            document.found("unknown-reference", ("term", term, "of"), words)
        names.add(term)
    for value in description.values.values():
        for name in sorted(value.formula.names - names):
            document.found("unknown-reference", ("value", value.name, "of"), f"no answer has a field {name}")
        _moves_known(document, description, value)
    for at, step in enumerate(description.steps):
        for key, condition in (("valid", step.valid), ("until", step.until)):
            for name in sorted(condition.names - _slots(step) if condition else ()):
                document.found("unknown-reference", ("step", at, key), f"this answer has no field {name}")


def _slots(step: ReadStep) -> set[str]:
    """The fields of the answer that a step reads."""
    return {*step.layout.slots} if step.layout else set()


def _fields_apart(document: Document, description: Description) -> None:
    steps = (*description.calibration, *description.reading)
    slots = [name for step in steps if step.layout for name in step.layout.slots]
    twice = {name for name in slots if slots.count(name) > 1}
    twice |= description.terms.keys() & {*slots}
    twice |= description.settings.keys() & ({*slots} | description.terms.keys())
    for name in sorted(twice):
        words = f"{name} stands for two things: fields and terms have names of their own"
        document.found("bad-name", ("step",), words, of="key")


def _settings_known(document: Document, description: Description) -> None:
    for step in (*description.begin, *description.calibration, *description.steps):
        for _, name in step.write.places:
            if name not in description.settings:
                words = f"a step writes {{{name}}}, and there is no [setting.{name}]"
                document.found("unknown-reference", ("step",), words, of="key")
    for example in description.examples:
        for name, word in example.settings.items():
            if name not in description.settings or word not in description.settings[name].options:
                words = f"there is no setting {name} with the word {word}"
                document.found("unknown-reference", (*example.path, "settings"), words)


def _moves_known(document: Document, description: Description, value: ChipValue) -> None:
    """The fields that a rehearsal changes for a value are its own: one, and perhaps its fine part."""
    moves, path = value.moves.split(), ("value", value.name, "moves")
    for name in moves:
        if name not in description.reached(value.formula) & description.slots().keys():
            document.found("unknown-reference", path, f"its formula comes down to no field {name}")
    if len(moves) > 2:
        words = "moves names one field, or two: the second is the fine part of the value"
        document.found("wrong-type", path, words)


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
    _gives(document, description, example, worked)


def _gives(
    document: Document, description: Description, example: Example, worked: Mapping[str, float]
) -> None:
    """The values that an example names are those that its bytes or its volts come to."""
    for name, value in example.gives.items():
        if name not in worked:
            document.found("unknown-reference", (*example.path, "gives"), f"there is no value {name}")
        elif abs(worked[name] - value) > 0.51 * 10 ** -description.values[name].digits:
            words = f"{name} of {'this' if description.inputs else 'these bytes'} is {worked[name]:g} by its formula, and {value:g} by the example"
            document.found("wrong-type", (*example.path, "gives"), words)
