"""Lines of a driver that every described chip has: what is written, the fields of an answer, and what makes it one that counts."""

from __future__ import annotations

from zapato.lang.patterns import Slot
from zapato.parts.described.description import ReadStep
from zapato.parts.described.layout import CheckByte


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
