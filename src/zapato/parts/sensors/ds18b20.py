"""DS18B20: temperature on a one-wire bus."""

from __future__ import annotations

from zapato.parts.sensors import SensorChip, quantity

CHIP = SensorChip(
    name="ds18b20",
    help="temperature on a one-wire bus",
    properties={"temperature": quantity("Cel", "temperature", -55, 125)},
    bus="onewire",
    fastest=750,
    source="DS18B20 datasheet, Features (−55 to 125 °C) and AC Electrical Characteristics (conversion 750 ms at 12 bits)",
)
