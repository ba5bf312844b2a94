"""ADS1015: the ADS1115 with twelve bits."""

from zapato.parts.converters.ads1115.sim import Chip as Sixteen


class Chip(Sixteen):
    """The result stands in the upper twelve bits."""

    bits = 12
    rates = (128, 250, 490, 920, 1600, 2400, 3300, 3300)
