"""BMP280: the BME280 without humidity."""

from zapato.parts.sensors.bme280.sim import Chip as Whole


class Chip(Whole):
    """Another identity."""

    identity = 0x58
    takes = 6.4
