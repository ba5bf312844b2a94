"""BMP280: the BME280 without humidity."""

from zapato.stage.chips.bme280 import Chip as Whole


class Chip(Whole):
    """Another identity."""

    identity = 0x58
    takes = 6.4
