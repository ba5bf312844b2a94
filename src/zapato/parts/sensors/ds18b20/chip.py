"""DS18B20: temperature on a one-wire bus."""

from __future__ import annotations

from zapato.parts.kind import Driver, Part
from zapato.parts.onewire.serial import number_of, serial_field
from zapato.parts.sensors import SensorChip, common, quantity
from zapato.parts.sensors.ds18b20.sim import FAMILY, OnWire
from zapato.parts.simulation import Simulation


def _driver(part: Part) -> Driver:
    bus = part.linked["bus"].name if "bus" in part.linked else ""
    return Driver("s_ds18b20", "Ds18b20", (*common(part), bus, part.get("serial", "")))


def _simulation(part: Part) -> Simulation:
    pins = part.linked["bus"].pins if "bus" in part.linked else {}
    if "pin" not in pins:
        return Simulation()
    return Simulation(
        stimuli={
            "temperature": OnWire(pins["pin"].gpio, number_of(part.get("serial", ""), part.name, FAMILY))
        }
    )


CHIP = SensorChip(
    name="ds18b20",
    help="temperature on a one-wire bus",
    properties={"temperature": quantity("Cel", "temperature", -55, 125)},
    bus="onewire",
    family=FAMILY,
    fields=(serial_field(FAMILY),),
    driver=_driver,
    simulation=_simulation,
    fastest=750,
    wiring=(
        "Red supply 3.3 V, black ground, yellow data on most probes; 4.7 kohm from data to 3.3 V once a bus."
    ),
    takes=(3.0, 5.5),
    source="DS18B20 datasheet, Features (−55 to 125 °C) and AC Electrical Characteristics (conversion 750 ms at 12 bits), 64-Bit Lasered ROM Code (family code 28h); DC Electrical Characteristics: VDD 3.0 V to 5.5 V",
)
