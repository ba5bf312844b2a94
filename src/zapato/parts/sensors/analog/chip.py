"""A bare analog input: a voltage, measured behind an optional divider."""

from __future__ import annotations

from zapato.parts.model import Bench, Driver, Need, Part
from zapato.parts.sensors import SensorChip, common, parallel, quantity
from zapato.parts.stimuli import Quantity, line_faults


def ratio(part: Part) -> float:
    """Volts at the sensor for each volt at the pin."""
    upper, lower = part.get("divider", (0.0, 1.0))
    return (upper + lower) / lower if lower else 1.0


def _source_ohm(part: Part) -> float:
    """A divider with what the sensor has in series, as the pin sees them."""
    own = part.get("source_resistance", 0.0)
    if not part.values.get("divider"):
        return own
    upper, lower = part.values["divider"]
    return parallel(upper + own, lower)


def _driver(part: Part) -> Driver:
    return Driver("s_analog", "Analog", (*common(part), part.at("pin"), ratio(part)))


def _bench(part: Part) -> Bench:
    at = part.pins["pin"].gpio
    cut = "low" if part.values.get("divider") else "cut"  # the lower resistor stands beside the pin
    return Bench(sets={"voltage": Quantity("volts", at, ratio(part))}, acts=line_faults(at, cut))


CHIP = SensorChip(
    name="analog",
    help="a voltage on an analog input",
    properties={"voltage": quantity("V", "volts at the sensor, before the divider")},
    need=Need("pin", "analog", circuit="a sensor with a voltage output"),
    wiring=(
        "The sensor's output to an analog pin, its ground to ground; above the pin's range a "
        "divider of two resistors, said with `divider`."
    ),
    driver=_driver,
    bench=_bench,
    source_ohm=_source_ohm,
)
