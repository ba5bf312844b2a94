"""PCF8574A: eight quasi-bidirectional pins."""

from __future__ import annotations

from zapato.parts.expander.chip import QUASI, ExpanderChip

CHIP = ExpanderChip(
    kind="expander",
    name="pcf8574a",
    addresses=tuple(range(0x38, 0x40)),
    source=QUASI.format("PCF8574A") + "; I2C-bus timing characteristics: 100 kHz",
    bus_most=100_000,
    takes=(2.5, 5.5),
    reads_high=0.7,
    pins=8,
    weak_high=True,
)
