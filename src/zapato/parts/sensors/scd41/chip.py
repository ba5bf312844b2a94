"""SCD41: carbon dioxide, temperature and humidity over I2C."""

from __future__ import annotations

from zapato.parts.sensors import SensorChip, on_bus, quantity

_DRIVER, _SIMULATION = on_bus("s_scd41", "Scd41", "scd41")

CHIP = SensorChip(
    name="scd41",
    help="carbon dioxide, temperature and humidity over I2C",
    properties={
        "co2": quantity("ppm", "carbon dioxide", 0, 40000),
        "temperature": quantity("Cel", "air temperature", -10, 60),
        "humidity": quantity("%RH", "relative humidity", 0, 100),
    },
    bus_most=400000,
    addresses=(0x62,),
    fastest=5000,
    draws=0.205,
    wiring=(
        "3.3 V, 200 mA for a moment; air must reach it, and it needs fresh air once a week to calibrate itself."
    ),
    takes=(2.4, 5.5),
    reads_high=0.65,
    source="SCD4x datasheet, Sensor specifications; Digital interface (address 0x62); start_periodic_measurement (5 s); Electrical specifications: 2.4 V to 5.5 V, input high from 0.65 VDD",
    driver=_DRIVER,
    simulation=_SIMULATION,
)
