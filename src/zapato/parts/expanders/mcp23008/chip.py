"""MCP23008: eight pins with an output stage each, on I2C."""

from __future__ import annotations

from zapato.parts.expander.chip import ExpanderChip

CHIP = ExpanderChip(
    kind="expander",
    name="mcp23008",
    addresses=tuple(range(0x20, 0x28)),
    source="MCP23008 datasheet (DS21919): 1.6 registers, Device Addressing; AC Characteristics: 1.7 MHz; Absolute Maximum Ratings: VDD + 0.6 V; DC Characteristics: 1.8 V to 5.5 V, input high from 0.8 VDD; from memory",
    bus_most=1_700_000,
    takes=(1.8, 5.5),
    reads_high=0.8,
    pins=8,
    beyond=0.6,
    driver=("expander_mcp", "McpExpander"),
)
