"""SHT31: temperature and humidity over I2C."""

from __future__ import annotations

from zapato.parts.sensors import SensorChip, on_bus, quantity

_DRIVER, _SIMULATION = on_bus("s_sht31", "Sht31", "sht31")

CHIP = SensorChip(
    name="sht31",
    help="temperature and humidity over I2C",
    properties={
        "temperature": quantity("Cel", "air temperature", -40, 125),
        "humidity": quantity("%RH", "relative humidity", 0, 100),
    },
    bus_most=1000000,
    addresses=(0x44, 0x45),
    fastest=100,
    wiring="3.3 V; ADDR to ground is 0x44, to 3.3 V 0x45.",
    takes=(2.15, 5.5),
    reads_high=0.7,
    source="SHT3x-DIS datasheet, Sensor specifications and I2C address (ADDR sets 0x44 or 0x45); Electrical specifications: VDD 2.15 V to 5.5 V, input high from 0.7 VDD",
    driver=_DRIVER,
    simulation=_SIMULATION,
)
