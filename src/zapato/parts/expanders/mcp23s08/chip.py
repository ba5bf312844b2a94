"""MCP23S08: eight pins with an output stage each, on SPI."""

from __future__ import annotations

from zapato.parts.expander.chip import ExpanderChip

CHIP = ExpanderChip(
    kind="expander",
    name="mcp23s08",
    addresses=(),
    source="MCP23S08 datasheet (DS21919): 1.6 registers, 1.3.2 opcode with hardware addresses off; AC Characteristics: 10 MHz; Absolute Maximum Ratings: VDD + 0.6 V; DC Characteristics: 1.8 V to 5.5 V, input high from 0.8 VDD; from memory",
    bus_most=10_000_000,
    takes=(1.8, 5.5),
    reads_high=0.8,
    pins=8,
    beyond=0.6,
    driver=("expander_mcp_spi", "SpiMcpExpander"),
)
