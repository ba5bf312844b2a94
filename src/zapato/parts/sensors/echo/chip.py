"""Distance by the echo of ultrasound, with a trigger and an echo pin."""

from __future__ import annotations

from collections.abc import Iterable

from zapato.lang.fields import pin
from zapato.parts.electrical import GROUND, Passive
from zapato.parts.kind import Driver, Need, Part
from zapato.parts.sensors import SensorChip, common, quantity
from zapato.parts.simulation import Simulation
from zapato.parts.stimuli import SetQuantity


def _driver(part: Part) -> Driver:
    return Driver("s_echo", "Echo", (*common(part), part.pins["pin"].gpio, part.pins["trigger"].gpio))


def _simulation(part: Part) -> Simulation:
    at = part.pins["pin"].gpio
    return Simulation(stimuli={"distance": SetQuantity("echo", at)})


def _pins(part: Part, need: Need) -> Iterable[Need]:
    yield need
    if part.values.get("trigger") is not None:
        yield Need("trigger", "output", timed=True, circuit="the trigger input of the sensor")


def _beside(part: Part) -> Iterable[Passive]:
    between, below = (
        "between ECHO and the pin, for a module of 5 V",
        "from the pin to ground, for a module of 5 V",
    )
    yield Passive("resistor", "1 kohm", between, "upper one of a divider", "pin")
    yield Passive("resistor", "1.8 kohm", below, "lower one of a divider", "pin", GROUND)


CHIP = SensorChip(
    name="echo",
    help="distance by the echo of ultrasound, with a trigger and an echo pin",
    properties={"distance": quantity("m", "to what is in front of it", 0.02, 5)},
    need=Need("pin", "input", timed=True, rest="low", firm=True, circuit="the echo output of the sensor"),
    fields=(pin("trigger", "the pin that asks for an echo", None),),
    requires=("trigger",),
    pins=_pins,
    beside=_beside,
    fastest=60,
    wiring=(
        "Trigger straight to its pin; the echo of a 5 V sensor through a divider (1 kohm and 2 "
        "kohm), as a pin takes 3.3 V."
    ),
    lifts=True,
    source="speed of sound 343.2 m/s in dry air at 20 °C (ISO 9613-1, annex A); an echo from 5 m takes 30 ms",
    driver=_driver,
    simulation=_simulation,
)
