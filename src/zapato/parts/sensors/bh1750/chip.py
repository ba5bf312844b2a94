"""BH1750FVI: illuminance over I2C."""

from __future__ import annotations

from zapato.parts.sensors import SensorChip, on_bus, quantity

_DRIVER, _SIMULATION = on_bus("s_bh1750", "Bh1750", "bh1750")

CHIP = SensorChip(
    name="bh1750",
    help="illuminance over I2C",
    properties={"illuminance": quantity("lx", "light that falls on it", 0, 54612)},
    bus_most=400000,
    addresses=(0x23, 0x5C),
    fastest=180,
    wiring="3.3 V; ADDR to ground is 0x23, to 3.3 V 0x5c. Behind a clear window, not in the sun.",
    takes=(2.4, 3.6),
    reads_high=0.7,
    source="BH1750FVI datasheet, Measurement mode (H-resolution 120 ms typical, 180 ms at most) and Slave address (ADDR pin); Operating conditions: VCC 2.4 V to 3.6 V; Electrical characteristics: input high from 0.7 DVI",
    driver=_DRIVER,
    simulation=_SIMULATION,
)
