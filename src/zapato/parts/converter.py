"""An analog-to-digital converter on I2C: `pin = "adc.0"` is input 0 of the converter called adc."""

from __future__ import annotations

from collections.abc import Mapping

from zapato.boards.model import Pin
from zapato.lang.fields import measured
from zapato.parts.bus_chip import Chips, addresses, chip_fields, place, stand_in
from zapato.parts.electrical import RAIL, drawing, fed, supplied
from zapato.parts.model import Bench, Driver, Kind, Part
from zapato.parts.offered import offered_pin

ADDRESSES: Chips = {
    "ads1115": (0x48, 0x49, 0x4A, 0x4B),
    "ads1015": (0x48, 0x49, 0x4A, 0x4B),
}
INPUTS = 4
SOURCE = "ADS1115 and ADS1015 datasheets, Pin Configuration, I2C Address Selection; Absolute Maximum Ratings: VDD + 0.3 V; Recommended Operating Conditions: 2 V to 5.5 V; Electrical Characteristics: input high from 0.7 VDD"


def _offers(part: Part) -> Mapping[str, Pin]:
    if part.get("chip", "") not in ADDRESSES:
        return {}
    return {
        str(n): offered_pin(part.name, n, adc=True, source=SOURCE, bears=part.get("supply", 3.3) + 0.3)
        for n in range(INPUTS)
    }


def _driver(part: Part) -> Driver | None:
    at = place(part, ADDRESSES)
    return Driver("converter", "Converter", (*at, part.get("supply", 3.3) > 4.0)) if at else None


def _bench(part: Part) -> Bench:
    chip = stand_in(part, ADDRESSES, {int(word): pin.gpio for word, pin in _offers(part).items()})
    return Bench(chips=(chip,) if chip else ())


KIND = Kind(
    name="converter",
    help="an analog-to-digital converter on I2C; it offers analog inputs to sensors",
    fields=(
        *fed('"3V3"'),
        *chip_fields("converter", ADDRESSES),
        measured("supply", "what it runs on", "V", 3.3, least=2.0, most=5.5),
    ),
    offers=_offers,
    loads=drawing("the converter", RAIL, 0.001),
    supplied=supplied("ads1x15", 2.0, 5.5, SOURCE, 0.7),
    driver=_driver,
    bench=_bench,
    addresses=addresses(ADDRESSES),
    wiring=(
        "On the bus like any chip, the address by what its ADDR pin leads to. Its inputs take "
        "from ground to its supply, no more: a divider in front of anything higher."
    ),
    example='[i2c.main]\nsda = 21\nscl = 22\n\n[converter.adc]\nchip = "ads1115"\nbus = "main"\n\n[sensor.tank]\nchip = "analog"\npin = "adc.0"',
)
