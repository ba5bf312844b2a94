"""MCP3004: as the MCP3008, with four inputs."""

from zapato.parts.converters.mcp3008.sim import Chip as Mcp3008


class Chip(Mcp3008):
    """Ten bits; four inputs."""

    bits = 10
