"""Registers of a Modbus device: what a table of them says, and which are read together.

Source: Modbus Application Protocol Specification V1.1b3, sections 4.3 (data model) and 6 (functions 1 to 6 and 16).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any, cast

from zapato.lang.fields import REQUIRED, Field, Shape, Wrong, boolean, choice, measured, number, whole
from zapato.lang.senml import MEANT, UNITS

MOST = 100
"""Registers of one meter at the most."""
APART = 8
"""Words between two registers that are still read with one request: a request of its own costs more."""
TOGETHER = 60
"""Words of one request at the most: an answer then fits into what the serial controller keeps."""
READS = {"coil": 1, "discrete": 2, "holding": 3, "input": 4}
TYPES = {
    "u16": (1, False, False),
    "s16": (1, True, False),
    "u32": (2, False, False),
    "s32": (2, True, False),
    "f32": (2, True, True),
}


def read_unit(value: object) -> str:
    """A unit of the SenML registry. Raises Wrong."""
    if isinstance(value, str) and (value in UNITS or value == ""):
        return value
    meant = MEANT.get(value.lower()) if isinstance(value, str) else None
    fixes = (f'did you mean "{meant}"?',) if meant else ()
    raise Wrong(f"is {value!r}, which is no unit of the SenML registry (RFC 8428)", *fixes)


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


@dataclass(frozen=True)
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

    @property
    def truth(self) -> bool:
        return self.space in ("coil", "discrete") or self.bit is not None

    @property
    def words(self) -> int:
        return 1 if self.truth else TYPES[self.type][0]


def read_registers(value: object) -> tuple[Register, ...]:
    """The table of registers by name. Raises Wrong, with the register's name."""
    table = cast(dict[str, Any], value)
    if not isinstance(value, dict) or not all(isinstance(each, dict) for each in table.values()):
        raise Wrong(
            'takes a table a register: [meter.grid.registers] power = { at = 12, type = "f32", unit = "W" }'
        )
    if len(table) > MOST:
        raise Wrong(f"has {len(table)} registers; {MOST} is the most")
    return tuple(_register(name, fields) for name, fields in table.items())


def _register(name: str, fields: Mapping[str, Any]) -> Register:
    if not name.isidentifier() or name != name.lower() or name == "read":
        raise Wrong(f'has the register "{name}"; a name is a-z, 0-9 and _, and starts with a letter')
    values: dict[str, Any] = {}
    for key, raw in fields.items():
        known = SHAPE.by_name.get(key)
        if known is None:
            raise Wrong(
                f"has {key} in {name}, which is no key of a register", f"keys: {', '.join(SHAPE.by_name)}"
            )
        try:
            values[key] = known.read(raw)
        except Wrong as wrong:
            raise Wrong(f"has in {name} a {key} that {wrong.message}", *wrong.fixes) from None
    if "at" not in values:
        raise Wrong(f"has no at in {name}: its address")
    values = {each.name: each.default for each in SHAPE.fields} | values
    made = Register(
        name, values["at"], values["space"], values["type"], values["order"] == "little", values["bit"], float(values["scale"]),
        float(values["shift"]), values["unit"], values["every"], values["writable"], values["low"], values["high"],
    )  # fmt: skip
    if not made.scale:
        raise Wrong(f"has a scale of 0 in {name}")
    if made.writable and (made.space in ("discrete", "input") or made.bit is not None):
        raise Wrong(
            f"says that {name} is writable, and {made.space if made.bit is None else 'one bit'} can only be read"
        )
    return made


@dataclass(frozen=True)
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
                TYPES[r.type][2],
                r.little,
                -1 if r.bit is None else r.bit,
                r.scale,
                r.shift,
            )
            for r in self.registers
        )
        return READS[self.space], self.at, self.count, self.every, rows


def blocks(registers: Iterable[Register], every: int) -> list[Block]:
    """Registers in as few requests as can be: same space, same period, close together."""
    found: list[list[Register]] = []
    for each in sorted(registers, key=lambda r: (r.space, r.every or every, r.at)):
        last = found[-1] if found else None
        near = last and (last[0].space, last[0].every or every) == (each.space, each.every or every)
        end = max(r.at + r.words for r in last) if last else 0
        if last and near and each.at - end <= APART and each.at + each.words - last[0].at <= TOGETHER:
            last.append(each)
        else:
            found.append([each])
    return [
        Block(group[0].space, group[0].at, max(r.at + r.words for r in group) - group[0].at, group[0].every or every, tuple(group))
        for group in found
    ]  # fmt: skip
