"""The chip's own temperature, where it has a sensor for it."""

from __future__ import annotations

from zapato.parts.kind import Driver, Part
from zapato.parts.sensors import SensorChip, common, quantity
from zapato.parts.simulation import Simulation
from zapato.parts.stimuli import SetQuantity


def _driver(part: Part) -> Driver:
    return Driver("s_die", "Die", common(part))


CHIP = SensorChip(
    name="die",
    help="how warm the chip itself is",
    properties={
        "temperature": quantity("Cel", "of the silicon: some degrees above the air around it", -40, 125)
    },
    fastest=100,
    inside=True,
    wiring="Nothing to wire.",
    only=("esp32", "esp32s2", "esp32s3", "esp32c3", "esp32c6", "rp2040"),
    source="MicroPython, module esp32: raw_temperature, mcu_temperature; RP2040 Datasheet, 4.9.5 Temperature Sensor",
    driver=_driver,
    simulation=lambda part: Simulation(stimuli={"temperature": SetQuantity("die", 0)}),
)
