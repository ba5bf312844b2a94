"""BME280: registers and calibration; raw counts are found by inverting the datasheet's compensation (4.2.3)."""

from __future__ import annotations

import struct
from collections.abc import Callable

from zapato.parts.simulated import Measuring, ReadStimulus

T = (27504, 26435, -1000)
P = (36477, -10685, 3024, 2855, 140, -7, 15500, -14600, 6000)
H = (75, 355, 0, 340, 0, 30)
"""Calibration: T and P are the example of the BMP280 datasheet (3.12), H a usual part's."""


def fine(raw: int) -> float:
    """t_fine of the compensation formula; 5120 a degree."""
    one = (raw / 16384 - T[0] / 1024) * T[1]
    two = raw / 131072 - T[0] / 8192
    return one + two * two * T[2]


def pascal(raw: int, t: float) -> float:
    one = t / 2 - 64000
    two = one * one * P[5] / 32768 + one * P[4] * 2
    two = two / 4 + P[3] * 65536
    one = (P[2] * one * one / 524288 + P[1] * one) / 524288
    one = (1 + one / 32768) * P[0]
    p = (1048576 - raw - two / 4096) * 6250 / one
    return p + (P[8] * p * p / 2147483648 + p * P[7] / 32768 + P[6]) / 16


def damp(raw: int, t: float) -> float:
    value = t - 76800
    value = (raw - (H[3] * 64 + H[4] / 16384 * value)) * (
        H[1] / 65536 * (1 + H[5] / 67108864 * value * (1 + H[2] / 67108864 * value))
    )
    return value * (1 - H[0] * value / 524288)


def inverse(call: Callable[[int], float], wanted: float, most: int) -> int:
    """The count whose value is nearest; `call` rises or falls all the way."""
    low, high = 0, most
    rises = call(high) > call(low)
    while high - low > 1:
        middle = (low + high) // 2
        if (call(middle) < wanted) == rises:
            low = middle
        else:
            high = middle
    return min((low, high), key=lambda raw: abs(call(raw) - wanted))


class Chip(Measuring):
    """Forced mode: a write of 01 or 10 to ctrl_meas measures once."""

    identity = 0x60
    takes = 9.3
    """ms at the most with each quantity once (9.1)."""

    def __init__(self, stimulus: ReadStimulus) -> None:
        self.stimulus = stimulus
        self.memory = bytearray(256)
        self.pointer = 0
        self.power_on()

    def power_on(self) -> None:
        memory = self.memory = bytearray(256)
        memory[0xD0] = self.identity
        memory[0x88:0xA0] = struct.pack("<HhhHhhhhhhhh", *T, *P)
        memory[0xA1] = H[0]
        memory[0xE1:0xE8] = struct.pack("<hB", H[1], H[2]) + bytes(
            (H[3] >> 4, H[3] & 15 | (H[4] & 15) << 4, H[4] >> 4, H[5])
        )
        memory[0xF7:0xFF] = b"\x80\0\0\x80\0\0\x80\0"

    def write(self, data: bytes) -> None:
        if not data:
            return
        self.pointer = data[0]
        for at in range(1, len(data), 2):
            self.memory[data[at - 1]] = data[at]
            if data[at - 1] == 0xF4 and data[at] & 3 in (1, 2):
                self.begin(self.takes, self.measure)

    def measure(self) -> None:
        warm = inverse(fine, (self.stimulus("temperature") or 0) * 5120, (1 << 20) - 1)
        t = fine(warm)
        press = inverse(lambda raw: pascal(raw, t), self.stimulus("pressure") or 101325, (1 << 20) - 1)
        wet = inverse(lambda raw: damp(raw, t), self.stimulus("humidity") or 0, 65535)
        for at, value in ((0xF7, press), (0xFA, warm)):
            self.memory[at : at + 3] = (value << 4).to_bytes(3, "big")
        self.memory[0xFD:0xFF] = wet.to_bytes(2, "big")

    def read(self, size: int) -> bytes:
        self.memory[0xF3] = 8 * self.busy  # "measuring"
        return bytes(self.memory[self.pointer : self.pointer + size])
