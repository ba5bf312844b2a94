"""A meter, or anything else that speaks Modbus RTU on a serial line: its registers are a table."""

from __future__ import annotations

from collections.abc import Mapping

from zapato.lang.fields import REQUIRED, Field, measured, names, text, whole
from zapato.parts.frames.part import enable_of, line_of
from zapato.parts.kind import Action, Driver, Kind, Part, Property
from zapato.parts.registers import Register, blocks, read_registers
from zapato.parts.simulation import PeerAt, Simulation
from zapato.parts.stimuli import ActOnAttached, SetAttached

ROW = 96
"""Bytes that a register, or a request, takes on the device."""


def _registers(part: Part) -> tuple[Register, ...]:
    return part.get("registers", ())


class MeterKind(Kind):
    """A meter, an inverter or anything else that speaks Modbus RTU, by a table of its registers."""

    name = "meter"
    help = "a meter, an inverter or anything else that speaks Modbus RTU, by a table of its registers"
    fields = (
        names("serial", "the serial link, [uart.…]; with enable over RS-485", REQUIRED, role="bus"),
        whole("address", "its address on the line", 1, least=1, most=247),
        Field(
            "registers",
            read_registers,
            {"type": "object"},
            'its registers by name: power = { at = 12, type = "f32", unit = "W" }; keys: at, space, type, words, order, bit, bits, names, scale, shift, unit, every, writable, low, high',
            REQUIRED,
        ),
        text(
            "table",
            "a CSV file beside site.toml with more of them: a column name, and one for each key",
            None,
            most=200,
            role="table",
        ),
        measured("every", "the time between two readings", "time", 10_000, least=20),
        measured("patience", "how long an answer may take", "time", 300, least=20, most=5000),
    )
    actions = {"read": Action(help="read everything now")}
    identified_by = "address"
    rows = "registers"
    wiring = (
        "A to A and B to B (some makers swap the letters), ground joined, a driver chip at the board whose DE and RE hang together on "
        "enable. 120 ohm at both ends of a long line, none between; several meters in a row, each with an address of its own."
    )
    example = (
        '[uart.line]\ntx = 17\nrx = 16\nbaud = 9600\nenable = 4\n\n[meter.grid]\nserial = "line"\n\n[meter.grid.registers]\n'
        'power = { at = 12, type = "f32", unit = "W", space = "input" }\nlimit = { at = 40, scale = 0.1, unit = "A", writable = true, low = 6, high = 16 }'
    )

    def properties(self, part: Part) -> Mapping[str, Property]:
        return {
            register.name: Property(
                "boolean" if register.truth else "text" if register.text else "number", register.unit, settable=register.writable, unknown=True,
                low=register.low, high=register.high, options=tuple(register.names.values()),
                help="a setting" if register.writable else "a reading",
            )
            for register in _registers(part)
        }  # fmt: skip

    def driver(self, part: Part) -> Driver | None:
        if "serial" not in part.linked:
            return None
        read = tuple(block.plain for block in blocks(_registers(part), part.get("every", 10_000)))
        props = tuple(register.name for register in _registers(part))
        sets = tuple(register.name for register in _registers(part) if register.writable)
        limits = tuple((register.low, register.high) for register in _registers(part) if register.writable)
        arguments = (
            part.linked["serial"].name,
            part.get("address", 1),
            part.get("patience", 300),
            read,
            props,
            sets,
            limits,
        )
        return Driver("modbus", "Meter", arguments, data=ROW * len(props) + ROW * len(read))

    def simulation(self, part: Part) -> Simulation:
        key = line_of(part)
        if key is None:
            return Simulation()
        name, at = part.name, ("serial", key)
        words = ("fall_silent", "answer", "answer_late", "answer_wrong", "refuse", "refuse_gaps")
        return Simulation(
            stimuli={
                register.name: SetAttached(at, f"{name}.{register.name}") for register in _registers(part)
            },
            gestures={word: ActOnAttached(at, f"{name}.{word}") for word in words},
            peers=(PeerAt("meter", key, enable_of(part), (name, part.get("address", 1), _registers(part))),),
        )

    def bus(self, part: Part) -> str:
        return "uart"

    def often(self, part: Part) -> Mapping[str, float]:
        return {
            register.name: float(register.every or part.get("every", 10_000)) for register in _registers(part)
        }


KIND = MeterKind()
