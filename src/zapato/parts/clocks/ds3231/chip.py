"""DS3231: a clock with a temperature-compensated crystal and a battery."""

from __future__ import annotations

from zapato.parts.clock.chip import ClockChip

CHIP = ClockChip(
    kind="clock",
    name="ds3231",
    addresses=(0x68,),
    source="DS3231 datasheet, Recommended Operating Conditions: VCC 2.3 V to 5.5 V, input high from 0.7 VCC; AC Electrical Characteristics: 400 kHz",
    bus_most=400_000,
    takes=(2.3, 5.5),
    reads_high=0.7,
    driver=("ds3231", "Ds3231"),
)
