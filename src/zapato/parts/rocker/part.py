"""A rocker switch: it stays where it was put; a light follows it, or changes with its every move."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from zapato.lang.fields import REQUIRED
from zapato.parts.digital import input_driver, input_fields, input_need, input_simulation, state_property
from zapato.parts.kind import Driver, Kind, Need, Part, Property
from zapato.parts.simulation import Simulation


class RockerKind(Kind):
    """A switch that stays where it was put."""

    terminals = {"pin": "one side"}
    name = "rocker"
    help = "a switch that stays where it was put"
    fields = input_fields("on", pull=REQUIRED, active="low", settle="50ms")
    events = {"changed": "it was moved, either way: for a light that several switches share"}
    wiring = (
        'A wall switch between the pin and ground with `pull = "up"`, on its own cable at extra- '
        "low voltage, never across the mains."
    )
    example = '[rocker.stairs]\npin = 32\npull = "up"'

    def properties(self, part: Part) -> Mapping[str, Property]:
        return state_property("on", "closed at this moment")

    def needs(self, part: Part) -> Iterable[Need]:
        return input_need(part, "low", "a switch to ground")

    def driver(self, part: Part) -> Driver | None:
        return input_driver(part, "low", ("on", "changed", "changed"))

    def simulation(self, part: Part) -> Simulation:
        return input_simulation(part, "low", "on")


KIND = RockerKind()
