"""MCP23S08: the MCP23008 behind an opcode on SPI (datasheet, SPI: 0x40 writes, 0x41 reads; hardware addresses are off from power-up)."""

from zapato.parts.expander.opcode import WithOpcode
from zapato.parts.expanders.mcp23008.sim import Chip as Registers


class Chip(Registers, WithOpcode):
    """Its registers are those of the chip on I2C."""
