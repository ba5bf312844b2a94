"""A meter on a Modbus line: registers that the world sets, and answers that may come late, wrong or not at all."""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence
from typing import Any

from zapato.lang.patterns import crc16
from zapato.parts.registers import READS, TYPES, Register
from zapato.parts.simulated import SerialLine

BACK, LATE = 15, 900
"""ms until it answers, and when it is slow."""
LARGEST = 3.4e38
"""About the largest number of 32 bits (IEEE 754)."""
SPACES = {code: space for space, code in READS.items()} | {5: "coil", 6: "holding", 16: "holding"}


class Peer:
    """One meter among others on its line; what the world does is named after the part, "grid.power"."""

    def __init__(self, line: SerialLine, name: str, address: int, registers: Sequence[Register]) -> None:
        self.line, self.name, self.address = line, name, address
        self.registers = {register.name: register for register in registers}
        self.words: dict[tuple[str, int], int] = {}
        self.mood = "answer"
        self.asked = 0
        for register in registers:
            self._store(register, "" if register.type == "text" else next(iter(register.names.values()), 0))

    # --- the world

    def put(self, name: str, value: Any, over: int = 0) -> None:
        whose, _, what = name.partition(".")
        if whose == self.name:
            self._store(self.registers[what], value)

    def do(self, word: str) -> None:
        whose, _, mood = word.partition(".")
        if whose == self.name:
            self.mood = mood

    def read(self, name: str) -> Any:
        """The raw words of a register."""
        register = self.registers[name.partition(".")[2] or name]
        return [self.words[register.space, register.at + n] for n in range(register.words)]

    def _store(self, register: Register, value: Any) -> None:
        if register.truth:
            bit = register.bit or 0
            before = self.words.get((register.space, register.at), 0) & ~(1 << bit)
            self.words[register.space, register.at] = before | int(bool(value)) << bit
            return
        if register.type == "text":
            data = str(value).encode()[: register.words * 2].ljust(register.words * 2, b"\0")
        else:
            named = next((raw for raw, text in register.names.items() if text == value), value)
            data = _packed(register.type, (float(named) - register.shift) / register.scale)
        words = struct.unpack(f">{register.words}H", data)
        for n, word in enumerate(reversed(words) if register.little and register.type != "text" else words):
            self.words[register.space, register.at + n] = word

    def close(self) -> None:
        """Nothing is held."""

    # --- the line

    def hear(self, data: bytes) -> None:
        if len(data) < 4 or data[0] != self.address or crc16(data):
            return
        self.asked += 1
        if self.mood == "fall_silent":
            return
        answer = bytes((data[1] | 128, 4)) if self.mood == "refuse" else self._answer(data[1], data[2:-2])
        frame = bytes((self.address,)) + answer
        frame += crc16(frame).to_bytes(2, "little")
        if self.mood == "answer_wrong":
            frame = frame[:3] + bytes((frame[3] ^ 0x40,)) + frame[4:]
        self.line.answer(frame, LATE if self.mood == "answer_late" else BACK)

    def _answer(self, function: int, body: bytes) -> bytes:
        space = SPACES.get(function)
        if space is None:
            return bytes((function | 128, 1))
        at, count = struct.unpack(">HH", body[:4])
        if function in (5, 6, 16):
            return self._write(function, space, at, count, body)
        there = [(space, at + n) in self.words for n in range(count)]
        if not (all(there) if self.mood == "refuse_gaps" else any(there)):
            return bytes((function | 128, 2))
        words = [self.words.get((space, at + n), 0) for n in range(count)]
        data = bytes(_bits(words)) if function < 3 else struct.pack(f">{count}H", *words)
        return bytes((function, len(data))) + data

    def _write(self, function: int, space: str, at: int, count: int, body: bytes) -> bytes:
        if (space, at) not in self.words:
            return bytes((function | 128, 2))
        values = (
            (int(count == 0xFF00),)
            if function == 5
            else (count,)
            if function == 6
            else struct.unpack(f">{count}H", body[5:])
        )
        for n, value in enumerate(values):
            self.words[space, at + n] = value
        return bytes((function,)) + body[:4]


def _packed(kind: str, value: float) -> bytes:
    """A number as its words; what they cannot hold is the nearest that they can."""
    words, letter = TYPES[kind]
    if kind == "f32":
        return struct.pack(">f", max(-LARGEST, min(LARGEST, value)))
    low = -(1 << 16 * words - 1) if letter.islower() else 0
    return struct.pack(">" + letter, round(max(low, min(low + (1 << 16 * words) - 1, value))))


def _bits(values: Sequence[int]) -> Iterator[int]:
    """Truths, eight in a byte, the first one lowest."""
    for start in range(0, len(values), 8):
        yield sum(bool(value) << n for n, value in enumerate(values[start : start + 8]))
