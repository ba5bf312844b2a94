"""SHT31: temperature and humidity over I2C."""

from __future__ import annotations

from zapato.parts.sensors import SensorChip, quantity

CHIP = SensorChip(
    name="sht31",
    help="temperature and humidity over I2C",
    properties={
        "temperature": quantity("Cel", "air temperature", -40, 125),
        "humidity": quantity("%RH", "relative humidity", 0, 100),
    },
    bus_most=1000000,
    addresses=(0x44, 0x45),
    source="SHT3x-DIS datasheet, Sensor specifications and I2C address (ADDR sets 0x44 or 0x45)",
)
