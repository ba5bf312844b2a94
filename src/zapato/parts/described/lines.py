"""Lines of a driver that every described chip has: what is written, the fields of an answer, and what makes it one that counts."""

from __future__ import annotations

from collections.abc import Sequence

from zapato.lang.patterns import Slot
from zapato.parts.described.description import Description, ReadStep, class_name
from zapato.parts.described.layout import CheckByte


def beginning(chip: Description, base: str, arguments: str, more: Sequence[str] = ()) -> list[str]:
    """A class that is a `base`, "module.Class": what it measures, and what formulas read of its settings after the arguments of that."""
    module, _, cls = base.partition(".")
    lines = [f"# {chip.name}: made from its description.", f"from {module} import {cls}", "", ""]
    lines += [f"class {class_name(chip.name)}({cls}):"]
    lines += [f"    props = ({''.join(f'{name!r}, ' for name in chip.values)})", *more, ""]
    if read := chip.read_settings:
        words = ", ".join(f"{name}_counts" for name in read)
        lines += [f"    def __init__(self, d, name, every, change, {arguments}, {words}):"]
        lines += [f"        self.{name}_counts = {name}_counts" for name in read]
        lines += [f"        super().__init__(d, name, every, change, {arguments})", ""]
    return lines


def ending(chip: Description) -> list[str]:
    """The terms of the formulas, and what comes out of them."""
    given = (f"round({value.formula.text}, {value.digits})" for value in chip.values.values())
    terms = [f"        {name} = {formula.text}" for name, formula in chip.terms.items()]
    return [*terms, f"        return ({', '.join(given)},)"]


def counted(chip: Description) -> list[str]:
    """What formulas read of the settings."""
    return [f"        {name} = self.{name}_counts" for name in chip.read_settings]


def sent(step: ReadStep) -> list[str]:
    places = dict(step.write.places)
    return [f"self.{places[at]}" if at in places else str(byte) for at, byte in enumerate(step.write.data)]


def fields(step: ReadStep) -> list[str]:
    """The fields of the answer `b`, where its fixed bytes and its check bytes are right."""
    layout = step.layout
    if layout is None:
        return []
    lines: list[str] = []
    wrong = [f"b[{at}] != {byte}" for at, byte in layout.fixed.items()]
    wrong += [_check(check) for check in layout.checks]
    if wrong:
        lines += [
            f"        if {' or '.join(wrong)}:",
            '            raise ValueError("the check sum is wrong")',
        ]
    return lines + [line for slot in layout.slots.values() for line in _slot(slot)]


def _check(check: CheckByte) -> str:
    """True where a check byte is wrong."""
    if check.low:
        return f"self.bus.wire.crc8(b[{check.begin}:{check.end + 1}])"
    usual = (check.polynomial, check.first) == (0x31, 0xFF)
    more = "" if usual else f", {check.polynomial}, {check.first}"
    return f"crc8(b[{check.begin}:], {check.end - check.begin}{more})"


def valid(step: ReadStep) -> list[str]:
    if step.valid is None:
        return []
    return [
        f"        if not ({step.valid.text}):",
        '            raise ValueError("it says that its reading is not valid")',
    ]


def _slot(slot: Slot) -> list[str]:
    places = list(range(slot.at, slot.at + slot.width))
    if not slot.little:
        places.reverse()
    pieces = (f"b[{at}] << {8 * n}" if n else f"b[{at}]" for n, at in enumerate(places))
    lines = [f"        {slot.name} = {' | '.join(pieces)}"]
    if slot.signed:
        lines += [
            f"        if {slot.name} > {slot.high}:",
            f"            {slot.name} -= {1 << 8 * slot.width}",
        ]
    return lines
