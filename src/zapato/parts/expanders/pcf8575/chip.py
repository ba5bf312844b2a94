"""PCF8575: sixteen quasi-bidirectional pins."""

from __future__ import annotations

from zapato.parts.expander.chip import QUASI, ExpanderChip

CHIP = ExpanderChip(
    kind="expander",
    name="pcf8575",
    addresses=tuple(range(0x20, 0x28)),
    source=QUASI.format("PCF8575") + "; I2C-bus timing characteristics: 400 kHz",
    bus_most=400_000,
    takes=(2.5, 5.5),
    reads_high=0.7,
    pins=16,
    weak_high=True,
)
