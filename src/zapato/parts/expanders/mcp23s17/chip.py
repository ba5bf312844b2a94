"""MCP23S17: sixteen pins with an output stage each, on SPI."""

from __future__ import annotations

from zapato.parts.expander.chip import ExpanderChip

CHIP = ExpanderChip(
    kind="expander",
    name="mcp23s17",
    addresses=(),
    source="MCP23S17 datasheet (DS20001952): table 3-3 registers, 3.3.2 opcode with hardware addresses off; AC Characteristics: 10 MHz; Absolute Maximum Ratings: VDD + 0.6 V; DC Characteristics: 1.8 V to 5.5 V, input high from 0.8 VDD; from memory",
    bus_most=10_000_000,
    takes=(1.8, 5.5),
    reads_high=0.8,
    pins=16,
    beyond=0.6,
    driver=("expander_mcp_spi", "SpiMcpExpander"),
)
