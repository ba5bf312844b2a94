"""DHT11: temperature and humidity on one data line, whole degrees."""

from __future__ import annotations

from zapato.parts.model import Bench, Driver, Need, Part
from zapato.parts.sensors import SensorChip, common, quantity


def _driver(part: Part) -> Driver:
    return Driver("s_dht11", "Dht11", (*common(part), part.pins["pin"].gpio), ("sensor",))


def _bench(part: Part) -> Bench:
    at = part.pins["pin"].gpio
    return Bench(sets={name: ["dht", at, name] for name in CHIP.properties})


CHIP = SensorChip(
    name="dht11",
    help="DHT11: temperature and humidity on one data line, whole degrees",
    properties={
        "temperature": quantity("Cel", "air temperature", 0, 50),
        "humidity": quantity("%RH", "relative humidity", 20, 90),
    },
    need=Need(
        "pin",
        "line",
        rest="high",
        firm=True,
        circuit="the DHT11's data line, which its pull-up resistor holds high",
    ),
    fastest=1000,
    source="DHT11 product manual, Technical specifications: sampling period at least 1 s, 0 to 50 °C, 20 to 90 %RH",
    driver=_driver,
    bench=_bench,
)
