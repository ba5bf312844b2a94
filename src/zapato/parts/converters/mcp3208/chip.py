"""MCP3208: eight inputs of twelve bits, on SPI."""

from __future__ import annotations

from zapato.parts.converter.chip import ConverterChip

CHIP = ConverterChip(
    kind="converter",
    name="mcp3208",
    addresses=(),
    source="MCP3204 and MCP3208 datasheet (DS21298): 1.0 Electrical Characteristics: 2.7 V to 5.5 V, 1.0 MHz at 2.7 V, inputs up to VDD + 0.6 V, input high from 0.7 VDD; 5.0 Serial Communication, table 5-2, figure 5-1; from memory",
    takes=(2.7, 5.5),
    reads_high=0.7,
    bus_most=1.0e6,
    inputs=8,
    beyond=0.6,
    driver=("converter_mcp", "McpConverter"),
    bits=12,
)
