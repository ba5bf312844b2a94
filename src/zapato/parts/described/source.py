"""The driver of a described chip: a small MicroPython module, written out with nothing to interpret."""

from __future__ import annotations

from importlib import import_module
from math import ceil

from zapato.parts.described.catalogue import OTHERS
from zapato.parts.described.description import Description, ReadStep, class_name
from zapato.parts.described.lines import counted, ending, fields, sent, valid

ASKED = 20
"""Pauses into which the longest time is cut for a chip that is asked whether it has measured."""


def driver_source(chip: Description) -> str:
    """The module of a described chip."""
    if own := OTHERS.get(chip.head["bus"]):
        return import_module(f"zapato.parts.described.{own}").driver_source(chip)
    slow = chip.early
    waits = any(step.takes for step in (*(() if slow else chip.begin), *chip.calibration, *chip.steps))
    calibration = () if _packed(chip) else chip.calibration
    checked = any(step.layout and step.layout.checks for step in (*calibration, *chip.steps))
    waits = waits or any(step.until for step in chip.steps)
    imports = [*(["import struct"] if _packed(chip) else []), *(["import time"] if waits else [])]
    lines = [f"# {chip.name}: made from its description.", *imports, *([""] if imports else [])]
    lines += ["from checked import crc8"] if checked else []
    lines += ["from i2c_sensor import I2cSensor", "", "", f"class {class_name(chip.name)}(I2cSensor):"]
    lines += [f"    props = ({''.join(f'{name!r}, ' for name in chip.values)})", ""]
    first = ceil(chip.head["start"]) + 1 + (ceil(sum(step.takes for step in chip.begin)) if slow else 0)
    lines += _init(chip)
    lines += ["    def first(self):", f"        return {f'self.early({first})' if slow else first}", ""]
    if chip.on_spi:
        lines += _on_spi(chip)
    if chip.begin or chip.calibration:
        lines += [
            "    def begin(self):",
            *(line for step in chip.begin for line in _said(step, not slow or step is not chip.begin[-1])),
        ]
        lines += [*_calibration(chip), ""]
    lines += _measure(chip)
    lines += ["    def values(self):"]
    if words := _words(chip):
        lines += [f"        {', '.join(words)}{',' * (len(words) == 1)} = self.words"]
    lines += counted(chip)
    for step in chip.steps:
        lines += _step(chip, step)
    return "\n".join([*lines, *ending(chip)]) + "\n"


def _measure(chip: Description) -> list[str]:
    """A reading, where it is more than every sensor on a bus does: set up anew after a silence, it has measured by the next one."""
    set_up = chip.on_spi and (chip.begin or chip.calibration)
    if not set_up and not chip.early:
        return []
    lines = [
        "    def measure(self):",
        "        if not self.begun:",
        "            self.bus.rests()",
        "            self.begin()",
    ]
    if chip.early:
        lines += ["            self.begun = True", '            raise ValueError("it begins anew")']
    if not set_up:
        return [*lines, "        return super().measure()", ""]
    return [
        *lines,
        "        self.begun = False  # nobody refuses on SPI: a reading that counts says that it is there",
        "        values = self.values()",
        "        self.begun = True",
        "        return values",
        "",
    ]


def _on_spi(chip: Description) -> list[str]:
    """What is said and heard while the select line is low, in one go; the bus has the chip's mode as long as that takes."""
    if not chip.said_first:
        return ["    def get(self, size):", *_exchange(chip, 'b""', "size"), ""]
    lines = ["    def send(self, *data):", "        self.ask(0, *data)", ""]
    return [*lines, "    def ask(self, size, *data):", *_exchange(chip, "bytes(data)", "size"), ""]


def _exchange(chip: Description, data: str, size: str) -> list[str]:
    mode = chip.head["mode"]
    call = f"return self.bus.exchange(self.address, {data}, {size})"
    if not mode:
        return [f"        {call}"]
    return [
        f"        self.bus.spi.init(polarity={mode >> 1}, phase={mode & 1})",
        "        try:",
        f"            {call}",
        "        finally:",
        "            self.bus.spi.init(polarity=0, phase=0)",
    ]


def _init(chip: Description) -> list[str]:
    """What a device file sets comes after what every sensor on a bus gets."""
    written, read = chip.written_settings, chip.read_settings
    given = [
        word
        for name in chip.settings
        for word in ([name] if name in written else []) + ([f"{name}_counts"] if name in read else [])
    ]
    if not given:
        return []
    return [
        f"    def __init__(self, d, name, every, change, bus, address, {', '.join(given)}):",
        *(f"        self.{word} = {word}" for word in given),
        "        super().__init__(d, name, every, change, bus, address)",
        "",
    ]


def _step(chip: Description, step: ReadStep) -> list[str]:
    """One step of a reading: said, heard and looked at; asked again where it says whether it has measured."""
    if step.until is None:
        return [*_asked(chip, step), *valid(step)]
    pause = max(1, ceil(step.takes / ASKED))
    again = ReadStep(step.write, 0, step.silent, step.layout)
    body = [
        f"        time.sleep_ms({pause})",
        *_asked(chip, again),
        f"        if {step.until.text}:",
        "            break",
    ]
    return [
        f"        for _ in range({ceil(step.takes / pause) + 1}):",
        *(f"    {line}" for line in body),
        "        else:",
        '            raise ValueError("it does not get ready")',
        *valid(step),
    ]


def _asked(chip: Description, step: ReadStep) -> list[str]:
    """What is said and heard: on SPI, and where a repeated start is wanted, in one go."""
    layout = step.layout
    if layout and step.write and chip.on_spi:
        return [f"        b = self.ask({', '.join((str(layout.size), *sent(step)))})", *fields(step)]
    if layout and step.write and chip.head["repeated"]:
        register = ", ".join(sent(step))
        return [
            f"        b = self.i2c.readfrom_mem(self.address, {register}, {layout.size})",
            *fields(step),
        ]
    return [*_said(step), *_read(step)]


def _said(step: ReadStep, waits: bool = True) -> list[str]:
    lines = [f"        self.send({', '.join(sent(step))})"] if step.write else []
    return lines + ([f"        time.sleep_ms({ceil(step.takes) + 1})"] if step.takes and waits else [])


def _read(step: ReadStep) -> list[str]:
    return [f"        b = self.get({step.layout.size})", *fields(step)] if step.layout else []


def _words(chip: Description) -> list[str]:
    """The calibration's fields that are kept, in their order: all where they are unpacked in one go, else those that a formula reads."""
    formulas = [*chip.terms.values(), *(value.formula for value in chip.values.values())]
    read = {name for formula in formulas for name in formula.names}
    names = [name for step in chip.calibration if step.layout for name in step.layout.slots]
    return names if _packed(chip) else [name for name in names if name in read]


_CODES = {(1, False): "B", (1, True): "b", (2, False): "H", (2, True): "h", (4, False): "I", (4, True): "i"}


def _packed(chip: Description) -> str:
    """The words of a calibration that is read in one piece, as struct has them; "" where it is another."""
    layout = chip.calibration[0].layout if len(chip.calibration) == 1 else None
    if layout is None or chip.on_spi or chip.head["repeated"] or layout.fixed or layout.checks:
        return ""
    slots = list(layout.slots.values())
    ends = {slot.little for slot in slots if slot.width > 1}
    whole = sum(slot.width for slot in slots) == layout.size
    if len(ends) > 1 or not whole or any((slot.width, slot.signed) not in _CODES for slot in slots):
        return ""
    return "<>"[ends != {True}] + "".join(_CODES[slot.width, slot.signed] for slot in slots)


def _calibration(chip: Description) -> list[str]:
    if form := _packed(chip):
        step = chip.calibration[0]
        size = step.layout.size if step.layout else 0
        return [*_said(step), f"        self.words = struct.unpack({form!r}, self.get({size}))"]
    lines = [line for step in chip.calibration for line in _asked(chip, step)]
    words = _words(chip)
    return [*lines, f"        self.words = {', '.join(words)}{',' * (len(words) == 1)}"] if words else lines
