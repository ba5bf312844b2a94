"""ADS1115: four inputs of sixteen bits."""

from __future__ import annotations

from zapato.parts.converter.chip import ConverterChip

CHIP = ConverterChip(
    kind="converter",
    name="ads1115",
    addresses=(0x48, 0x49, 0x4A, 0x4B),
    source="ADS1115 and ADS1015 datasheets, Pin Configuration, I2C Address Selection; Absolute Maximum Ratings: VDD + 0.3 V; Recommended Operating Conditions: 2 V to 5.5 V; Electrical Characteristics: input high from 0.7 VDD; Timing Requirements: 400 kHz in fast mode",
    bus_most=400_000,
    takes=(2.0, 5.5),
    reads_high=0.7,
    called="ads1x15",
)
