"""Temperature by a thermistor in a divider."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import Any

from zapato.lang.fields import choice, measured, number
from zapato.parts.electrical import GROUND, RAIL, Passive, ohms
from zapato.parts.kind import Driver, Need, Part
from zapato.parts.sensors import SensorChip, common, parallel, quantity
from zapato.parts.simulation import Simulation, Stimulus, World
from zapato.parts.stimuli import line_faults
from zapato.record import record


def _circuit(part: Part) -> tuple[float, float, float, float, bool]:
    """Ohms at 25 °C, beta, the fixed resistor's ohms, the divider's supply in V, and whether the thermistor is the lower one."""
    return (
        part.get("nominal", 10_000.0),
        part.get("beta", 3950),
        part.get("series", 10_000.0),
        3.3,
        part.get("side", "ground") == "ground",
    )


@record(eq=False)
class Warmth(Stimulus):
    """The temperature at a thermistor; its pin feels the volts of the divider."""

    gpio: int
    nominal: float
    beta: float
    series: float
    supply: float
    to_ground: bool

    def put(self, world: World, value: Any, over: int = 0) -> None:
        ohm = self.nominal * math.exp(self.beta * (1 / (value + 273.15) - 1 / 298.15))
        volts = self.supply * (ohm if self.to_ground else self.series) / (ohm + self.series)
        world.apply("volts", self.gpio, value=volts, over=over)


def _driver(part: Part) -> Driver:
    return Driver("s_ntc", "Ntc", (*common(part), part.at("pin"), *_circuit(part)))


def _simulation(part: Part) -> Simulation:
    at = part.pins["pin"].gpio
    cut = (
        "high" if part.get("side", "ground") == "ground" else "low"
    )  # the fixed resistor stands beside the pin
    return Simulation(stimuli={"temperature": Warmth(at, *_circuit(part))}, gestures=line_faults(at, cut))


def _beside(part: Part) -> Iterable[Passive]:
    to_ground = part.get("side", "ground") == "ground"
    where = f"from the pin to {'3.3 V' if to_ground else 'ground'}"
    fixed = ohms(part.get("series", 10_000))
    yield Passive(
        "resistor", fixed, where, "divides with the thermistor", "pin", RAIL if to_ground else GROUND
    )


CHIP = SensorChip(
    name="ntc",
    help="temperature by a thermistor in a divider",
    properties={"temperature": quantity("Cel", "temperature", -40, 150)},
    need=Need("pin", "analog", circuit="the middle of a thermistor and its fixed resistor"),
    fields=(
        measured("nominal", "the thermistor's resistance at 25 °C", "ohm", 10_000, least=1),
        number("beta", "the thermistor's beta, K", 3950),
        measured("series", "the fixed resistor beside the thermistor", "ohm", 10_000, least=1),
        choice("side", "what the thermistor leads to from the pin", "ground", "supply", default="ground"),
    ),
    beside=_beside,
    fastest=100,
    wiring=(
        "Thermistor and a fixed resistor of about the same value in a row between 3.3 V and "
        "ground, the pin in the middle; `side` says on which side the thermistor is."
    ),
    source="beta equation of NTC thermistors (IEC 60539-1, 4.5)",
    driver=_driver,
    simulation=_simulation,
    source_ohm=lambda part: parallel(*_circuit(part)[::2][:2]),
)
