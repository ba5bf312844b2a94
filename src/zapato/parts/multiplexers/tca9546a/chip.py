"""TCA9546A: four channels."""

from __future__ import annotations

from zapato.parts.multiplexer.chip import MultiplexerChip

CHIP = MultiplexerChip(
    kind="multiplexer",
    name="tca9546a",
    addresses=tuple(range(0x70, 0x78)),
    source="TCA9546A datasheet (TI SCPS205), Device Address, Control Register, RESET Input; Recommended Operating Conditions: 1.65 V to 5.5 V, input high from 0.7 VCC; 400 kHz; from memory",
    bus_most=400_000,
    takes=(1.65, 5.5),
    reads_high=0.7,
    channels=4,
)
