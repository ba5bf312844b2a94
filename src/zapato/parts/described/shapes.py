"""What a description's tables may have: their keys, and how each is read."""

from __future__ import annotations

import keyword
import re
from collections.abc import Mapping
from math import ceil, isfinite
from typing import cast

from zapato.lang.fields import (
    REQUIRED,
    Field,
    Shape,
    Wrong,
    boolean,
    choice,
    measured,
    number,
    span,
    text,
    whole,
)
from zapato.lang.senml import read_unit
from zapato.parts.described.formula import Formula, read_formula
from zapato.parts.described.layout import LONGEST, Layout, read_layout
from zapato.record import record

LOCAL = ("b", "self", "time", "round", "crc8", "abs")
"""What a driver's own lines read, so that no field may be called so."""


def _read_bytes(value: object, most: int = 16) -> bytes:
    try:
        data = bytes.fromhex(value) if isinstance(value, str) else b""
    except ValueError:
        data = b""
    if not 0 < len(data) <= most:
        raise Wrong(f'takes 1 to {most} bytes in hexadecimal digits: "24 00"')
    return data


@record(frozen=True)
class Written:
    """Bytes that are written; at some places the byte of what a setting was set to."""

    data: bytes = b""
    places: tuple[tuple[int, str], ...] = ()

    def __bool__(self) -> bool:
        return bool(self.data)

    def matches(self, data: bytes) -> dict[str, int] | None:
        """The settings' bytes, where these are such bytes; None where they are others."""
        given = {name: data[at] for at, name in self.places if at < len(data)}
        return given if self.of(given) == data else None

    def of(self, settings: Mapping[str, int]) -> bytes:
        """The bytes with these settings."""
        made = bytearray(self.data)
        for at, name in self.places:
            made[at] = settings.get(name, 0)
        return bytes(made)


def _read_written(value: object) -> Written:
    pieces = re.findall(r"\{\w+\}|\S+", value) if isinstance(value, str) else []
    places: list[tuple[int, str]] = []
    digits = ""
    for piece in pieces:
        if piece.startswith("{"):
            places.append((len(digits) // 2, piece[1:-1]))
        digits += "00" if piece.startswith("{") else piece
    return Written(_read_bytes(digits), tuple(places))


def _read_options(value: object) -> dict[str, int]:
    rows = cast(dict[str, object], value) if isinstance(value, dict) else {}
    if not rows or not all(type(byte) is int and 0 <= byte < 256 for byte in rows.values()):
        raise Wrong("takes words and the byte of each: { low = 0x01, high = 0x11 }")
    return cast(dict[str, int], rows)


def _read_counts(value: object) -> dict[str, float]:
    rows = cast(dict[str, object], value) if isinstance(value, dict) else {}
    if not all(type(row) in (int, float) and isfinite(cast(float, row)) for row in rows.values()):
        raise Wrong("takes what a formula reads for each word: { low = 1, high = 16 }")
    return cast(dict[str, float], rows)


def _read_chosen(value: object) -> dict[str, str]:
    rows = cast(dict[str, object], value) if isinstance(value, dict) else {}
    if not all(isinstance(row, str) for row in rows.values()):
        raise Wrong('takes settings and their words: { gain = "high" }')
    return cast(dict[str, str], rows)


def _read_layout(value: object) -> Layout:
    if not isinstance(value, str):
        raise Wrong('takes the bytes of an answer: "{t:u16} {crc8}"')
    layout = read_layout(value)
    for name in layout.slots:
        if name in LOCAL or keyword.iskeyword(name) or name.startswith("_"):
            raise Wrong(
                f'has the field "{name}", which the driver uses for itself', f"{name}_1, or another name"
            )
    return layout


def _read_formula(value: object) -> Formula:
    if not isinstance(value, str):
        raise Wrong('takes a formula: "-45 + 175 * t / 65535"')
    return read_formula(value)


def _read_addresses(value: object) -> tuple[int, ...]:
    items = cast(list[object], value) if isinstance(value, list) else [value]
    if not items or not all(type(item) is int and 8 <= item < 120 for item in items):
        raise Wrong("takes addresses of seven bits, the usual one first: [0x48, 0x49]")
    return tuple(cast(list[int], items))


def _read_answers(value: object) -> tuple[bytes, ...]:
    items = cast(list[object], value) if isinstance(value, list) else [value]
    return tuple(_read_bytes(item, LONGEST) for item in items)


def _read_gives(value: object) -> dict[str, float]:
    rows = cast(dict[str, object], value) if isinstance(value, dict) else {}
    if not rows or not all(type(row) in (int, float) for row in rows.values()):
        raise Wrong("takes values: { temperature = 25.0 }")
    return {name: float(cast(float, amount)) for name, amount in rows.items()}


CHIP = Shape(
    (
        text("help", "one sentence: what it measures, over what", REQUIRED),
        text("source", "the datasheet and the sections of its figures", REQUIRED, most=1000),
        choice("bus", "its bus, or what it has at a pin: a voltage, pulses", "i2c", "spi", "onewire", "analog", "pulse", default="i2c"),
        span("range", "of one with a voltage output: what it puts out, least and most: \"0.5V-4.5V\"", "V"),
        whole("family", "on a one-wire bus: the first byte of its serial number", 0, least=0, most=255),
        measured("pulses_most", "of one that gives pulses: so many a second at the most", "Hz", None, most=10_000),
        choice("output", "of one that gives pulses: what holds its line high, the pull-up at the pin, or its own supply", "open", "supply", default="open"),
        whole("mode", "on SPI: its mode, 0 to 3 (clock polarity and phase)", 0, least=0, most=3),
        boolean("repeated", "on I2C: it wants a repeated start, not a stop, between what is written and what is read"),
        Field("addresses", _read_addresses, {"type": "array"}, "the I2C addresses it can have, the usual one first", ()),
        measured("bus_most", "the fastest clock of its bus", "Hz", None),
        span("supply", "V at its supply, least and most: \"1.7V-3.6V\"", "V"),
        number("reads_high", "the share of its supply from which its inputs read high", 0.0),
        measured("fastest", "the shortest time between two readings", "time", 50, rounded=ceil),
        measured("start", "from power-up until it listens", "time", 20, most=5000, rounded=ceil),
        measured("draws", "its largest current", "A", 0.0),
        text("wiring", "how it is wired", "", most=1000),
    )
)  # fmt: skip
STEP = Shape(
    (
        Field("write", _read_written, {"type": "string"}, "bytes that are written, in hexadecimal digits; {gain} for a setting's", None),
        measured("takes", "how long the chip is busy then, by its datasheet's longest", "time", 0, most=2000, rounded=ceil),
        choice("busy", "what it answers meanwhile: nothing, or zeros", "silent", "zeros", default="silent"),
        Field("read", _read_layout, {"type": "string"}, "the answer that is read: \"{t:u16} {crc8}\"", None),
        Field("valid", _read_formula, {"type": "string"}, "what is true of its fields where the reading counts: \"s & 8\"", None),
        Field("until", _read_formula, {"type": "string"}, "what is true of its fields once it has measured: it is asked again until then, as long as takes", None),
    )
)  # fmt: skip
SETTING = Shape(
    (
        text("help", "what it sets", REQUIRED),
        text("default", "the word that holds where a device file gives none", REQUIRED, most=40),
        Field("options", _read_options, {"type": "object"}, "its words, and the byte that is written for each", REQUIRED),
        Field("counts", _read_counts, {"type": "object"}, "what a formula reads for each word", {}),
    )
)  # fmt: skip
TERM = Shape(
    (
        Field(
            "of",
            _read_formula,
            {"type": "string"},
            "how it follows from the fields and the terms before it",
            REQUIRED,
        ),
    )
)
VALUE = Shape(
    (
        Field("of", _read_formula, {"type": "string"}, "how it follows from the fields", REQUIRED),
        Field("unit", read_unit, {"type": "string"}, "a unit of the SenML registry", ""),
        text("help", "what it is", ""),
        number("low", "the least that it can be"),
        number("high", "the most"),
        whole("digits", "digits after the point", 2, least=0, most=6),
        text(
            "moves",
            'where it reads several fields: the one that a rehearsal changes; the others stay as in the first example. Of two, the second is the fine part: "high low"',
            "",
            most=80,
        ),
    )
)
EXAMPLE = Shape(
    (
        Field("read", _read_answers, {"type": "array"}, "the bytes of each step that reads", REQUIRED),
        Field(
            "calibration",
            _read_answers,
            {"type": "array"},
            "the bytes of each [[calibration]]; by default those of the example before",
            None,
        ),
        Field("gives", _read_gives, {"type": "object"}, "the values that they are", REQUIRED),
        Field("settings", _read_chosen, {"type": "object"}, "what is set to another word than usual", {}),
        text("source", "where the datasheet says so", "", most=400),
    )
)
INPUTS = {"analog": ("volts",), "pulse": ("count", "rate")}
"""What the formulas of chips without answers read: V at its output; pulses since it was first started, and how many a second."""
VOLTS, COUNT, RATE = "volts", "count", "rate"
_WORDS = {VOLTS: "the volts at its output", COUNT: "pulses so far", RATE: "pulses a second"}


def example_shape(bus: str) -> Shape:
    """The keys of an [[example]]."""
    given = INPUTS.get(bus)
    if given is None:
        return EXAMPLE
    rest = (EXAMPLE.by_name[key] for key in ("gives", "settings", "source"))
    return Shape((*(number(name, _WORDS[name], REQUIRED) for name in given), *rest))
