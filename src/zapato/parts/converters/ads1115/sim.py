"""ADS1115 and ADS1015: configuration and conversion registers (datasheets, Register Map); single shots against ground."""

from __future__ import annotations

from collections.abc import Mapping

from zapato.parts.simulated import ChipBoard, Measuring, ReadStimulus

RANGES = (6.144, 4.096, 2.048, 1.024, 0.512, 0.256, 0.256, 0.256)


RATES = (8, 16, 32, 64, 128, 250, 475, 860)
"""Conversions a second (Config Register, DR); the clock may be a tenth slower (Electrical Characteristics)."""


class Chip(Measuring):
    """Sixteen bits; the ADS1015's lowest four are zero."""

    bits = 16
    rates = RATES

    def __init__(self, stimulus: ReadStimulus) -> None:
        self.pointer, self.config, self.result = 0, 0x8583, 0
        self.board: ChipBoard | None = None
        self.pins: Mapping[int, int] = {}

    def join(self, board: ChipBoard, pins: Mapping[int, int], interrupt: int | None) -> None:
        self.board, self.pins = board, pins

    def power_on(self) -> None:
        self.pointer, self.config, self.result = 0, 0x8583, 0

    def write(self, data: bytes) -> None:
        self.pointer = data[0] & 3 if data else self.pointer
        if self.pointer == 1 and len(data) == 3:
            self.config = data[1] << 8 | data[2]
            if self.config & 0x8000:
                self.begin(1100 / self.rates[self.config >> 5 & 7], self.convert)

    def convert(self) -> None:
        single, number = self.config >> 14 & 1, self.config >> 12 & 3
        full = RANGES[self.config >> 9 & 7]
        volts = 0.0
        if self.board and single and number in self.pins:
            volts = self.board.applied("volts", self.pins[number]) or 0.0
        count = max(-32768, min(32767, round(volts / full * 32768)))
        self.result = count >> (16 - self.bits) << (16 - self.bits)

    def read(self, size: int) -> bytes:
        done = 0 if self.busy else 0x8000
        self.config = self.config & 0x7FFF | done
        value = self.result if self.pointer == 0 else self.config
        return (value & 0xFFFF).to_bytes(2, "big")[:size]
