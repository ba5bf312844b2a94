"""ADS7830: the ADS7828 with eight bits, in one byte."""

from zapato.parts.converters.ads7828.sim import Chip as Twelve


class Chip(Twelve):
    """Eight bits."""

    bits = 8
