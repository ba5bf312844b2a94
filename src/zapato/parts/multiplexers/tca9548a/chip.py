"""TCA9548A: eight channels."""

from __future__ import annotations

from zapato.parts.multiplexer.chip import MultiplexerChip

CHIP = MultiplexerChip(
    kind="multiplexer",
    name="tca9548a",
    addresses=tuple(range(0x70, 0x78)),
    source="TCA9548A datasheet (TI SCPS207): 9.4 Device Functional Modes (RESET), 9.5.3 Device Address, 9.5.4 Control Register; 7.3 Recommended Operating Conditions: 1.65 V to 5.5 V, input high from 0.7 VCC; 7.6: 400 kHz; from memory",
    bus_most=400_000,
    takes=(1.65, 5.5),
    reads_high=0.7,
    channels=8,
)
