"""Registers of a Modbus device: what a table of them says, and which are read together.

Source: Modbus Application Protocol Specification V1.1b3, sections 4.3 (data model) and 6 (functions 1 to 6 and 16).
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import field, replace
from typing import Any, cast

from zapato.lang.fields import (
    REQUIRED,
    Field,
    Shape,
    Wrong,
    boolean,
    choice,
    measured,
    nearest,
    number,
    whole,
)
from zapato.lang.senml import UNITS, read_unit
from zapato.parts.reserved import free
from zapato.record import record

MOST = 100
"""Registers of one meter at the most."""
APART = 8
"""Words between two registers that are still read with one request: a request of its own costs more."""
TOGETHER = 60
"""Words of one request at the most: an answer then fits into what the serial controller keeps."""
READS = {"coil": 1, "discrete": 2, "holding": 3, "input": 4}
TYPES = {
    "u16": (1, "H"),
    "s16": (1, "h"),
    "u32": (2, "I"),
    "s32": (2, "i"),
    "f32": (2, "f"),
    "text": (1, "s"),
}
"""Words of a type, and its letter in `struct`; a text has as many words as it says, two characters each."""
NAMES = 32
"""Values of a register that have names, at the most."""


def _numbered(value: object, most: int, what: str) -> dict[int, str]:
    """A table of numbers and texts, in a cell of a CSV file "0=off, 1=auto". Raises Wrong."""
    if isinstance(value, str):
        pairs = [pair.partition("=") for pair in value.split(",")]
        value = {key.strip(): text.strip() for key, _, text in pairs}
    rows = cast(dict[str, object], value) if isinstance(value, dict) else {}
    numbered = {
        int(key): text
        for key, text in rows.items()
        if re.fullmatch("[0-9]{1,5}", key) and isinstance(text, str) and text
    }
    if not numbered or len(numbered) < len(rows):
        raise Wrong(f"takes {what}")
    if max(numbered) > most or len(set(numbered.values())) < len(numbered):
        raise Wrong(f"takes numbers up to {most}, and each name once")
    return numbered


def _read_bits(value: object) -> dict[int, str]:
    bits = _numbered(value, 15, '{ 0 = "heating", 3 = "alarm" }')
    for name in bits.values():
        _named(name)
    return bits


def _read_names(value: object) -> dict[int, str]:
    names = _numbered(value, 65535, '{ 0 = "off", 1 = "auto" }')
    if len(names) > NAMES or max(map(len, names.values())) > 32:
        raise Wrong(f"takes {NAMES} names at the most, of 32 characters")
    return names


def _named(name: str) -> None:
    if not name.isidentifier() or name != name.lower() or name == "read":
        raise Wrong(f'has the name "{name}"; a name is a-z, 0-9 and _, and starts with a letter')
    free(name, "modbus.Meter")


SHAPE = Shape(
    (
        whole("at", "its address, counted from 0 as it goes over the line", REQUIRED, least=0, most=65535),
        choice("space", "the space that it is in", *READS, default="holding"),
        choice("type", "how its words are read", *TYPES, default="u16"),
        choice(
            "order",
            "of two words, which comes first: the high one (big) or the low one (little)",
            "big",
            "little",
            default="big",
        ),
        whole("bit", "one bit of it alone, from the lowest", None, least=0, most=15),
        Field(
            "bits",
            _read_bits,
            {"type": ["object", "string"]},
            'names of its bits, each a truth of its own: { 0 = "heating", 3 = "alarm" }',
            None,
        ),
        Field(
            "names",
            _read_names,
            {"type": ["object", "string"]},
            'names of its values, which are texts then: { 0 = "off", 1 = "auto" }',
            None,
        ),
        whole("words", "of a text, how many words it has, two characters each", None, least=1, most=32),
        number("scale", "value = raw * scale + shift", 1),
        number("shift", "added after the scale", 0),
        Field("unit", read_unit, {"enum": sorted(UNITS)}, "a unit of the SenML registry", ""),
        measured(
            "every", "the time between two readings; the meter's own where absent", "time", None, least=100
        ),
        boolean("writable", "it can be set", False),
        number("low", "the least that it can be set to"),
        number("high", "the most"),
    )
)


@record(frozen=True)
class Register:
    """One register, read."""

    name: str
    at: int
    space: str
    type: str
    little: bool
    bit: int | None
    scale: float
    shift: float
    unit: str
    every: int | None
    writable: bool
    low: float | None
    high: float | None
    names: Mapping[int, str] = field(default_factory=dict[int, str])
    length: int = 1

    @property
    def text(self) -> bool:
        """Whether its value is a text: characters, or the name of a value."""
        return self.type == "text" or bool(self.names)

    @property
    def truth(self) -> bool:
        return self.space in ("coil", "discrete") or self.bit is not None

    @property
    def words(self) -> int:
        return 1 if self.truth else self.length if self.type == "text" else TYPES[self.type][0]


def read_registers(value: object) -> tuple[Register, ...]:
    """The table of registers by name. Raises Wrong, with the register's name."""
    table = cast(dict[str, Any], value)
    if not isinstance(value, dict) or not all(isinstance(row, dict) for row in table.values()):
        raise Wrong(
            'takes a table a register: [meter.grid.registers] power = { at = 12, type = "f32", unit = "W" }'
        )
    registers: list[Register] = []
    wrong: list[Wrong] = []
    for name, fields in table.items():
        try:
            registers += _registers(name, fields)
        except Wrong as mistake:
            wrong.append(Wrong(mistake.message, *mistake.fixes, at=(name, *mistake.at)))
    for name in {
        register.name for register in registers if sum(register.name == other.name for other in registers) > 1
    }:
        wrong.append(Wrong(f"{name} stands twice: as a register, or as the name of a bit", at=(name,)))
    if wrong:
        raise Wrong(wrong[0].message, *wrong[0].fixes, at=wrong[0].at, more=tuple(wrong[1:]))
    if len(registers) > MOST:
        raise Wrong(f"has {len(registers)} registers; {MOST} is the most")
    return tuple(registers)


def _registers(name: str, fields: Mapping[str, Any]) -> list[Register]:
    """A register, or one for each of its bits that has a name. Raises Wrong, its `at` from the register on."""
    _named(name)
    values = _values(name, fields)
    bits: dict[int, str] | None = values["bits"]
    made = Register(
        name, values["at"], values["space"], values["type"], values["order"] == "little", values["bit"], float(values["scale"]),
        float(values["shift"]), values["unit"], values["every"], values["writable"], values["low"], values["high"],
        values["names"] or {}, values["words"] or 1,
    )  # fmt: skip
    _together(made, bits, values["words"])
    return [replace(made, name=text, bit=bit) for bit, text in bits.items()] if bits else [made]


def _values(name: str, fields: Mapping[str, Any]) -> dict[str, Any]:
    values: dict[str, Any] = {field.name: field.default for field in SHAPE.fields}
    for key, raw in fields.items():
        known = SHAPE.by_name.get(key)
        if known is None:
            near = nearest(key, list(SHAPE.by_name)) or (f"keys: {', '.join(SHAPE.by_name)}",)
            raise Wrong(f"{name} has {key}, which is no key of a register", *near, at=(key,))
        try:
            values[key] = known.read(raw)
        except Wrong as wrong:
            raise Wrong(f"{key} of {name} {wrong.message}", *wrong.fixes, at=(key,)) from None
    if "at" not in fields:
        raise Wrong(f"{name} has no at: its address")
    return values


def _together(made: Register, bits: Mapping[int, str] | None, words: int | None) -> None:
    """Keys that do not go together. Raises Wrong."""
    name = made.name
    if not made.scale:
        raise Wrong(f"scale of {name} is 0", at=("scale",))
    if (words is None) == (made.type == "text"):
        raise Wrong(
            f"{name} has {'no words: a text says how many it has' if words is None else 'words, and is no text'}"
        )
    if made.writable and (
        made.space in ("discrete", "input") or made.bit is not None or bits or made.type == "text"
    ):
        what = (
            made.space
            if made.space in ("discrete", "input")
            else "a text"
            if made.type == "text"
            else "one bit"
        )
        raise Wrong(f"{name} is said to be writable, and {what} can only be read", at=("writable",))
    if (bits or made.names or made.type == "text") and (
        made.space in ("coil", "discrete") or made.bit is not None
    ):
        raise Wrong(f"{name} is one bit, which has neither names nor further bits")
    if made.names and (bits or made.scale != 1 or made.shift or made.type in ("f32", "text")):
        raise Wrong(
            f"{name} has names for its values: they are of whole numbers, without scale, shift and bits",
            at=("names",),
        )
    if bits and TYPES[made.type][0] != 1:
        raise Wrong(f"{name} has names for its bits: they are of one word, u16", at=("bits",))


@record(frozen=True)
class Block:
    """Registers read with one request: where it begins, how many words or bits, how often (ms)."""

    space: str
    at: int
    count: int
    every: int
    registers: tuple[Register, ...]

    @property
    def plain(self) -> tuple[object, ...]:
        """What the device is given."""
        rows = tuple(
            (
                r.name,
                r.at - self.at,
                r.words,
                TYPES[r.type][1],
                r.little,
                -1 if r.bit is None else r.bit,
                r.scale,
                r.shift,
                tuple(r.names.items()),
            )
            for r in self.registers
        )
        return READS[self.space], self.at, self.count, self.every, rows


def blocks(registers: Iterable[Register], every: int) -> list[Block]:
    """Registers in as few requests as can be: same space, same period, close together."""
    blocks: list[list[Register]] = []
    for register in sorted(registers, key=lambda r: (r.space, r.every or every, r.at)):
        last = blocks[-1] if blocks else None
        near = last and (last[0].space, last[0].every or every) == (register.space, register.every or every)
        end = max(r.at + r.words for r in last) if last else 0
        if (
            last
            and near
            and register.at - end <= APART
            and register.at + register.words - last[0].at <= TOGETHER
        ):
            last.append(register)
        else:
            blocks.append([register])
    return [
        Block(group[0].space, group[0].at, max(r.at + r.words for r in group) - group[0].at, group[0].every or every, tuple(group))
        for group in blocks
    ]  # fmt: skip
