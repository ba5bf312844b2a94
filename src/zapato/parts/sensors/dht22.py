"""DHT22 (AM2302): temperature and humidity on one data line."""

from __future__ import annotations

from zapato.parts.model import Bench, Driver, Need, Part
from zapato.parts.sensors import SensorChip, common, quantity


def _driver(part: Part) -> Driver:
    return Driver("s_dht22", "Dht22", (*common(part), part.pins["pin"].gpio), ("sensor",))


def _bench(part: Part) -> Bench:
    at = part.pins["pin"].gpio
    return Bench(sets={name: ["dht", at, name] for name in CHIP.properties})


CHIP = SensorChip(
    name="dht22",
    help="temperature and humidity on one data line",
    properties={
        "temperature": quantity("Cel", "air temperature", -40, 80),
        "humidity": quantity("%RH", "relative humidity", 0, 100),
    },
    need=Need(
        "pin",
        "line",
        rest="high",
        firm=True,
        circuit="the DHT22's data line, which its pull-up resistor holds high",
    ),
    fastest=2000,
    source="AM2302 (DHT22) product manual, Technical specification: sensing period 2 s, −40 to 80 °C, 0 to 100 %RH",
    driver=_driver,
    bench=_bench,
)
