"""The driver of a described chip: a small MicroPython module, written out with nothing to interpret."""

from __future__ import annotations

from math import ceil

from zapato.lang.patterns import Slot
from zapato.parts.described.reading import Description, ReadStep


def class_name(name: str) -> str:
    return "Chip" + "".join(word.capitalize() for word in name.split("_"))


def driver_source(chip: Description) -> str:
    """The module of a described chip."""
    slow = chip.early
    waits = any(step.takes for step in (*(() if slow else chip.begin), *chip.steps))
    checked = any(step.layout and step.layout.checks for step in chip.steps)
    lines = [f"# {chip.name}: made from its description.", *(["import time", ""] if waits else [])]
    lines += ["from checked import crc8"] if checked else []
    lines += ["from i2c_sensor import I2cSensor", "", "", f"class {class_name(chip.name)}(I2cSensor):"]
    lines += [f"    props = ({''.join(f'{name!r}, ' for name in chip.values)})", ""]
    first = ceil(chip.head["start"]) + 1 + (ceil(sum(step.takes for step in chip.begin)) if slow else 0)
    lines += ["    def first(self):", f"        return {f'self.early({first})' if slow else first}", ""]
    if chip.begin:
        lines += [
            "    def begin(self):",
            *(line for step in chip.begin for line in _said(step, not slow)),
            "",
        ]
    lines += _ANEW if slow else []
    lines += ["    def values(self):"]
    for step in chip.steps:
        lines += [*_said(step), *_read(step)]
    given = (f"round({value.formula.text}, {value.digits})" for value in chip.values.values())
    return "\n".join([*lines, f"        return ({', '.join(given)},)"]) + "\n"


_ANEW = [
    "    def measure(self):",
    "        if not self.begun:  # set up anew after a silence: it has measured by the next reading",
    "            self.bus.rests()",
    "            self.begin()",
    "            self.begun = True",
    '            raise ValueError("it begins anew")',
    "        return super().measure()",
    "",
]


def _said(step: ReadStep, waits: bool = True) -> list[str]:
    lines = [f"        self.send({', '.join(map(str, step.write))})"] if step.write else []
    return lines + ([f"        time.sleep_ms({ceil(step.takes) + 1})"] if step.takes and waits else [])


def _read(step: ReadStep) -> list[str]:
    layout = step.layout
    if layout is None:
        return []
    lines = [f"        b = self.get({layout.size})"]
    wrong = [f"b[{at}] != {byte}" for at, byte in layout.fixed.items()]
    wrong += [f"crc8(b[{begin}:], {end - begin})" for begin, end in layout.checks]
    if wrong:
        lines += [
            f"        if {' or '.join(wrong)}:",
            '            raise ValueError("the check sum is wrong")',
        ]
    return lines + [line for slot in layout.slots.values() for line in _slot(slot)]


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
