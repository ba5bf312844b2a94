"""BH1750FVI: illuminance over I2C."""

from __future__ import annotations

from zapato.parts.model import Bench, Driver, Part
from zapato.parts.sensors import SensorChip, common, quantity


def _driver(part: Part) -> Driver:
    bus = part.linked["bus"].name if "bus" in part.linked else ""
    return Driver(
        "s_bh1750", "Bh1750", (*common(part), bus, part.get("address", CHIP.addresses[0])), ("sensor",)
    )


def _bench(part: Part) -> Bench:
    bus = part.linked["bus"].pins if "bus" in part.linked else {}
    at = bus["sda"].gpio if "sda" in bus else -1
    return Bench(
        sets={"illuminance": ["i2c", at, part.get("address", CHIP.addresses[0]), "bh1750", "illuminance"]}
    )


CHIP = SensorChip(
    name="bh1750",
    help="illuminance over I2C",
    properties={"illuminance": quantity("lx", "light that falls on it", 0, 54612)},
    bus_most=400000,
    addresses=(0x23, 0x5C),
    fastest=180,
    source="BH1750FVI datasheet, Measurement mode (H-resolution 120 ms typical, 180 ms at most) and Slave address (ADDR pin)",
    driver=_driver,
    bench=_bench,
)
