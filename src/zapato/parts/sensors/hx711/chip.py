"""HX711: a bridge of strain gauges, as in scales, by a clock and a data line."""

from __future__ import annotations

from collections.abc import Iterable

from zapato.lang.fields import pin
from zapato.parts.kind import Driver, Need, Part
from zapato.parts.sensors import SensorChip, common, quantity
from zapato.parts.simulation import ChipAt, Simulation
from zapato.parts.stimuli import OnBus


def _lines(part: Part) -> tuple[int, int]:
    return part.pins["pin"].gpio, part.pins["clock"].gpio


def _driver(part: Part) -> Driver:
    return Driver("s_hx711", "Hx711", (*common(part), *_lines(part)))


def _simulation(part: Part) -> Simulation:
    if not {"pin", "clock"} <= part.pins.keys():
        return Simulation()
    data, clock = _lines(part)
    return Simulation(
        stimuli={"load": OnBus(data, clock, "hx711", "load")},
        chips=(ChipAt(data, clock, "hx711", {}),),
    )


def _pins(part: Part, need: Need) -> Iterable[Need]:
    yield need
    if part.values.get("clock") is not None:
        circuit = "the clock input of the hx711: high for more than 60 us it switches off"
        yield Need("clock", "output", active="high", timed=True, circuit=circuit)


CHIP = SensorChip(
    name="hx711",
    help="a bridge of strain gauges, as in scales, in steps of its converter",
    properties={"load": quantity("", "steps of 24 bits, signed: points or scale make a weight of them", -8388608, 8388607)},
    need=Need("pin", "input", timed=True, circuit="the data output of the hx711"),
    fields=(pin("clock", "the pin for its clock, PD_SCK", None),),
    requires=("clock",),
    pins=_pins,
    takes=(2.6, 5.5),
    draws=0.015,
    fastest=200,
    wiring=(
        "VCC of the module to 3.3 V, so that its data line is at 3.3 V; DT to the data pin, SCK to the clock. E+ and E- feed the "
        "bridge, A+ and A- are its signal. Tare and scale: two weights and two readings, as points = [[readings, kg], …] with unit = \"kg\"."
    ),
    source="HX711 datasheet (Avia): Serial Interface, table 3 and figure 2 (24 bits, two's complement, the highest first, 25 pulses: input A with gain 128), Reset and power-down (60 us), table 1 Key electrical characteristics: 2.6 V to 5.5 V, 10 or 80 conversions a second; from memory",
    driver=_driver,
    simulation=_simulation,
)  # fmt: skip
