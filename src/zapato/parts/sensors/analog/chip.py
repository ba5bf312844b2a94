"""A bare analog input: a voltage, measured behind an optional divider."""

from __future__ import annotations

from collections.abc import Iterable

from zapato.lang.fields import measured, quantities, span
from zapato.parts.electrical import GROUND, Passive, ohms
from zapato.parts.kind import Driver, Need, Part
from zapato.parts.sensors import SensorChip, common, parallel, quantity
from zapato.parts.simulation import Simulation
from zapato.parts.stimuli import SetQuantity, line_faults


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


def _simulation(part: Part) -> Simulation:
    at = part.pins["pin"].gpio
    cut = "low" if part.values.get("divider") else "cut"  # the lower resistor stands beside the pin
    return Simulation(
        stimuli={"voltage": SetQuantity("volts", at, ratio(part))}, gestures=line_faults(at, cut)
    )


def _beside(part: Part) -> Iterable[Passive]:
    if part.values.get("divider"):
        upper, lower = part.values["divider"]
        between = "between sensor and pin"
        yield Passive("resistor", ohms(upper), between, "the upper one of the divider", "pin")
        yield Passive(
            "resistor", ohms(lower), "from the pin to ground", "the lower one of the divider", "pin", GROUND
        )


CHIP = SensorChip(
    name="analog",
    help="a voltage on an analog input",
    properties={"voltage": quantity("V", "volts at the sensor, before the divider")},
    need=Need("pin", "analog", circuit="a sensor with a voltage output"),
    wiring=(
        "The sensor's output to an analog pin, its ground to ground; above the pin's range a "
        "divider of two resistors, said with `divider`."
    ),
    fields=(
        span("range", "what the sensor puts out", "V", None),
        quantities(
            "divider",
            "resistors between sensor and pin, upper and lower, where a divider is fitted",
            "ohm",
            2,
            None,
        ),
        measured("source_resistance", "what the sensor's output has in series", "ohm", 0, most=1e9),
    ),
    beside=_beside,
    driver=_driver,
    simulation=_simulation,
    source_ohm=_source_ohm,
)
