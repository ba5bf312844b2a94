"""BME280: temperature, humidity and pressure over I2C."""

from __future__ import annotations

from zapato.parts.sensors import SensorChip, quantity

CHIP = SensorChip(
    name="bme280",
    help="temperature, humidity and pressure over I2C",
    properties={
        "temperature": quantity("Cel", "air temperature", -40, 85),
        "humidity": quantity("%RH", "relative humidity", 0, 100),
        "pressure": quantity("Pa", "air pressure", 30_000, 110_000),
    },
    bus_most=3400000,
    addresses=(0x76, 0x77),
    source="BME280 datasheet, General electrical specification and I2C interface (SDO sets 0x76 or 0x77)",
)
