"""MCP3204: as the MCP3008, with twelve bits, with four inputs."""

from zapato.parts.converters.mcp3008.sim import Chip as Mcp3008


class Chip(Mcp3008):
    """Twelve bits; four inputs."""

    bits = 12
