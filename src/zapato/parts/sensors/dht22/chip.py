"""DHT22 (AM2302): temperature and humidity on one data line."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from zapato.parts.electrical import RAIL, Passive
from zapato.parts.kind import Driver, Need, Part
from zapato.parts.sensors import SensorChip, common, quantity
from zapato.parts.simulation import Simulation, Stimulus, World
from zapato.parts.stimuli import line_faults
from zapato.record import record


def driver(part: Part) -> Driver:
    """Of every chip of this family: the port's class has the chip's name."""
    chip = part.get("chip", "dht22").upper()
    return Driver("s_dht", "Dht", (*common(part), part.pins["pin"].gpio, chip))


@record(eq=False)
class AirQuantity(Stimulus):
    """A quantity of the air around it."""

    gpio: int
    what: str

    @property
    def place(self) -> tuple[int, object]:  # type: ignore[override]
        return self.gpio, -1

    def put(self, world: World, value: Any, over: int = 0) -> None:
        world.apply("dht", self.gpio, self.what, value=value, over=over)


def simulation(part: Part) -> Simulation:
    """Both quantities, felt at its pin."""
    at = part.pins["pin"].gpio
    return Simulation(
        stimuli={name: AirQuantity(at, name) for name in ("temperature", "humidity")},
        gestures=line_faults(at),
    )


def data_line(chip: str) -> Need:
    """What the data pin must be able to do."""
    circuit = f"the {chip}'s data line, which its pull-up resistor holds high"
    return Need("pin", "line", rest="high", firm=True, circuit=circuit)


def pull_up(part: Part) -> Iterable[Passive]:
    """The resistor that holds the data line."""
    where = "from DATA to 3.3 V, where the breakout has none"
    yield Passive("resistor", "10 kohm", where, "holds the line high", "pin", RAIL)


CHIP = SensorChip(
    name="dht22",
    help="temperature and humidity on one data line",
    properties={
        "temperature": quantity("Cel", "air temperature", -40, 80),
        "humidity": quantity("%RH", "relative humidity", 0, 100),
    },
    need=data_line("DHT22"),
    fastest=2000,
    wiring=(
        "Supply 3.3 V, ground, data to the pin; 4.7 to 10 kohm from data to 3.3 V unless its "
        "breakout has it. A few metres of cable."
    ),
    takes=(3.3, 6.0),
    lifts=True,
    source="AM2302 (DHT22) product manual, Technical specification: sensing period 2 s, −40 to 80 °C, 0 to 100 %RH; Technical specification: 3.3 V to 6 V",
    beside=pull_up,
    driver=driver,
    simulation=simulation,
)
