"""MCP23008: the MCP23017 with one port, each register by itself (datasheet, table 1-3)."""

from zapato.parts.expanders.mcp23017.sim import Chip as Sixteen


class Chip(Sixteen):
    """Eight pins; registers from 0x00 to 0x0A."""

    size = 1
