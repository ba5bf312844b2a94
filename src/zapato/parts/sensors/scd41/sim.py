"""SCD41: periodic measurement, data ready, and three checked words (datasheet, 3.5 to 3.7)."""

from __future__ import annotations

from zapato.parts.simulated import Fault, Measuring, ReadStimulus, checked

PERIOD, STOPPING = 5000.0, 500.0
"""ms between two values, and until it listens again after it was stopped (3.5.1, 3.5.3)."""
NO_ANSWER = 19


class Chip(Measuring):
    """Commands of two bytes; while it measures it takes only a few of them."""

    def __init__(self, stimulus: ReadStimulus) -> None:
        self.stimulus, self.runs, self.answer = stimulus, False, b""

    def power_on(self) -> None:
        self.runs = False

    def write(self, data: bytes) -> None:
        word = int.from_bytes(data[:2], "big")
        if not self.runs and self.busy:
            raise Fault(NO_ANSWER)
        if word == 0x21B1:
            self.runs = True
            self.begin(PERIOD, lambda: None)
        elif word == 0x3F86:
            self.runs = False
            self.begin(STOPPING, lambda: None)
        elif word == 0xE4B8:
            self.answer = checked(0x8006 if self.runs and not self.busy else 0x8000)
        elif word == 0xEC05 and self.runs and not self.busy:
            self.begin(PERIOD, lambda: None)
            air, warm, damp = (self.stimulus(name) or 0 for name in ("co2", "temperature", "humidity"))
            self.answer = checked(air, (warm + 45) * 65535 / 175, damp * 65535 / 100)

    def read(self, size: int) -> bytes:
        data, self.answer = self.answer[:size], b""
        return data.ljust(size, b"\xff")
