"""BH1750FVI: illuminance over I2C."""

from __future__ import annotations

from zapato.parts.sensors import SensorChip, on_bus, quantity

_DRIVER, _BENCH = on_bus("s_bh1750", "Bh1750", "bh1750")

CHIP = SensorChip(
    name="bh1750",
    help="illuminance over I2C",
    properties={"illuminance": quantity("lx", "light that falls on it", 0, 54612)},
    bus_most=400000,
    addresses=(0x23, 0x5C),
    fastest=180,
    wiring="3.3 V; ADDR to ground is 0x23, to 3.3 V 0x5c. Behind a clear window, not in the sun.",
    source="BH1750FVI datasheet, Measurement mode (H-resolution 120 ms typical, 180 ms at most) and Slave address (ADDR pin)",
    driver=_DRIVER,
    bench=_BENCH,
)
