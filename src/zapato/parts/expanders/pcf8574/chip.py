"""PCF8574: eight quasi-bidirectional pins."""

from __future__ import annotations

from zapato.parts.expander.chip import QUASI, ExpanderChip

CHIP = ExpanderChip(
    kind="expander",
    name="pcf8574",
    addresses=tuple(range(0x20, 0x28)),
    source=QUASI.format("PCF8574") + "; I2C-bus timing characteristics: 100 kHz",
    bus_most=100_000,
    takes=(2.5, 5.5),
    reads_high=0.7,
    pins=8,
    weak_high=True,
)
