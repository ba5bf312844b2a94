"""AHT20: temperature and humidity over I2C."""

from __future__ import annotations

from zapato.parts.sensors import SensorChip, on_bus, quantity

_DRIVER, _SIMULATION = on_bus("s_aht20", "Aht20", "aht20")

CHIP = SensorChip(
    name="aht20",
    help="temperature and humidity over I2C",
    properties={
        "temperature": quantity("Cel", "air temperature", -40, 85),
        "humidity": quantity("%RH", "relative humidity", 0, 100),
    },
    bus_most=400000,
    addresses=(0x38,),
    fastest=2000,
    wiring="3.3 V; its address cannot be changed.",
    takes=(2.2, 5.5),
    reads_high=0.7,
    source="AHT20 datasheet, Sensor performance; Sensor reading process (80 ms a measurement, at most one in 2 s against self-heating); I2C address 0x38; Electrical characteristics: 2.2 V to 5.5 V, input high from 0.7 VDD",
    driver=_DRIVER,
    simulation=_SIMULATION,
)
