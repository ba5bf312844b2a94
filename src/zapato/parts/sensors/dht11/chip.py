"""DHT11: temperature and humidity on one data line, in whole degrees."""

from __future__ import annotations

from zapato.parts.sensors import SensorChip, quantity
from zapato.parts.sensors.dht22.chip import data_line, driver, pull_up, simulation

CHIP = SensorChip(
    name="dht11",
    help="temperature and humidity on one data line, in whole degrees",
    properties={
        "temperature": quantity("Cel", "air temperature", 0, 50),
        "humidity": quantity("%RH", "relative humidity", 20, 90),
    },
    need=data_line("DHT11"),
    fastest=1000,
    wiring=(
        "Supply 3.3 V, ground, data to the pin; 4.7 to 10 kohm from data to 3.3 V unless its breakout has it."
    ),
    takes=(3.0, 5.5),
    lifts=True,
    source="DHT11 product manual, Technical specifications: sampling period at least 1 s, 0 to 50 °C, 20 to 90 %RH; Electrical characteristics: 3 V to 5.5 V",
    beside=pull_up,
    driver=driver,
    simulation=simulation,
)
