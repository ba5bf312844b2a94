"""MCP3208: as the MCP3008, with twelve bits."""

from zapato.parts.converters.mcp3008.sim import Chip as Mcp3008


class Chip(Mcp3008):
    """Twelve bits; eight inputs."""

    bits = 12
