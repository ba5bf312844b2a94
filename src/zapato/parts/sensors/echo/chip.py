"""Distance by the echo of ultrasound, with a trigger and an echo pin."""

from __future__ import annotations

from zapato.parts.model import Bench, Driver, Need, Part
from zapato.parts.sensors import SensorChip, common, quantity
from zapato.parts.stimuli import Quantity


def _driver(part: Part) -> Driver:
    return Driver("s_echo", "Echo", (*common(part), part.pins["pin"].gpio, part.pins["trigger"].gpio))


def _bench(part: Part) -> Bench:
    at = part.pins["pin"].gpio
    return Bench(sets={"distance": Quantity("echo", at)})


CHIP = SensorChip(
    name="echo",
    help="distance by the echo of ultrasound, with a trigger and an echo pin",
    properties={"distance": quantity("m", "to what is in front of it", 0.02, 5)},
    need=Need("pin", "input", timed=True, rest="low", firm=True, circuit="the echo output of the sensor"),
    fastest=60,
    wiring=(
        "Trigger straight to its pin; the echo of a 5 V sensor through a divider (1 kohm and 2 "
        "kohm), as a pin takes 3.3 V."
    ),
    lifts=True,
    source="speed of sound 343.2 m/s in dry air at 20 °C (ISO 9613-1, annex A); an echo from 5 m takes 30 ms",
    driver=_driver,
    bench=_bench,
)
