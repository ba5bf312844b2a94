"""SSD1306: 128 by 64 points."""

from __future__ import annotations

from zapato.parts.display.chip import DisplayChip

CHIP = DisplayChip(
    kind="display",
    name="ssd1306",
    addresses=(0x3C, 0x3D),
    source="SSD1306 datasheet, DC Characteristics: VDD 1.65 V to 3.3 V; breakouts with a regulator take 5 V; 13: I2C interface timing, a cycle of 2.5 us",
    bus_most=400_000,
    takes=(1.65, 5.5),
    called="a breakout with an ssd1306",
)
