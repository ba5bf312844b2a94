"""ADS7828: eight inputs of twelve bits."""

from __future__ import annotations

from zapato.parts.converter.chip import ConverterChip

CHIP = ConverterChip(
    kind="converter",
    name="ads7828",
    addresses=(0x48, 0x49, 0x4A, 0x4B),
    source="ADS7828 datasheet (TI SBAS181): table 1 command byte, table 2 channel selection, Address byte; Electrical Characteristics: 2.7 V to 5.5 V, 400 kHz in fast mode, input high from 0.7 VDD; Absolute Maximum Ratings: VDD + 0.3 V; from memory",
    bus_most=400_000,
    takes=(2.7, 5.5),
    reads_high=0.7,
    inputs=8,
    driver=("converter_ads78", "Ads78Converter"),
    bits=12,
)
