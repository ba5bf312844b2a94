"""MCP23017: sixteen pins with an output stage each."""

from __future__ import annotations

from zapato.parts.expander.chip import ExpanderChip

CHIP = ExpanderChip(
    kind="expander",
    name="mcp23017",
    addresses=tuple(range(0x20, 0x28)),
    source="MCP23017 datasheet, Device Overview; GPPU register; Absolute Maximum Ratings: VDD + 0.6 V; DC Characteristics: 1.8 V to 5.5 V, input high from 0.8 VDD; AC Characteristics: 1.7 MHz",
    bus_most=1_700_000,
    takes=(1.8, 5.5),
    reads_high=0.8,
    pins=16,
    beyond=0.6,
    driver=("expander_mcp", "McpExpander"),
)
