"""Pulses of a meter: how many, and how many a second."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from zapato.lang.fields import choice
from zapato.parts.kind import Driver, Need, Part
from zapato.parts.sensors import SensorChip, common, quantity
from zapato.parts.sensors.pulse.sim import FASTEST, Rate
from zapato.parts.simulation import Simulation, WorldInput


def _driver(part: Part) -> Driver:
    return Driver(
        "s_pulse",
        "Pulse",
        (
            *common(part),
            part.pins["pin"].gpio,
            int(part.get("pull", "up") == "up"),
            int(part.get("active", "low") == "high"),
        ),
        writes=288,  # once in 5 min
    )


def _simulation(part: Part) -> Simulation:
    at = part.pins["pin"].gpio
    return Simulation(stimuli={"rate": Rate(at)}, inputs={"rate": WorldInput.number(2, 0, FASTEST)})


def _pins(part: Part, need: Need) -> Iterable[Need]:
    pull = part.get("pull", "up")
    yield replace(need, pull="" if pull == "none" else pull)


CHIP = SensorChip(
    name="pulse",
    help="pulses of a meter: how many, and how many a second",
    properties={
        "count": quantity("", "pulses since it was first started"),
        "rate": quantity("Hz", "pulses a second"),
    },
    need=Need("pin", "input", interrupt=True, circuit="the pulse output of a meter"),
    fields=(
        choice("pull", "the internal resistor at a pulse input", "up", "none", default="up"),
        choice("active", "the level of a pulse", "high", "low", default="low"),
    ),
    pins=_pins,
    fastest=100,
    wiring=(
        'An open contact or open-collector output between pin and ground with `pull = "up"`; an '
        "S0 output: its plus to the pin, its minus to ground."
    ),
    source="",
    driver=_driver,
    simulation=_simulation,
)
