"""PCA9546A: four channels."""

from __future__ import annotations

from zapato.parts.multiplexer.chip import MultiplexerChip

CHIP = MultiplexerChip(
    kind="multiplexer",
    name="pca9546a",
    addresses=tuple(range(0x70, 0x78)),
    source="PCA9546A datasheet (NXP), Device address, Control register, RESET input; Static characteristics: 2.3 V to 5.5 V, input high from 0.7 VDD; Dynamic characteristics: 400 kHz; from memory",
    bus_most=400_000,
    takes=(2.3, 5.5),
    reads_high=0.7,
    channels=4,
)
