"""A touch pad: a piece of metal on a touch sensing input."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from zapato.lang.fields import number, pin
from zapato.parts.digital import state_property
from zapato.parts.kind import Driver, Kind, Need, Part, Property
from zapato.parts.simulation import Simulation, Stimulus, World
from zapato.parts.stimuli import SetQuantity
from zapato.record import record

TOUCH = 200
"""ms of a finger on a touch pad."""


@record(eq=False)
class Finger(Stimulus):
    """A finger on the pad."""

    gpio: int

    def put(self, world: World, value: Any, over: int = 0) -> None:
        world.apply("touch", self.gpio, value=True)
        world.after(TOUCH, lambda: world.apply("touch", self.gpio, value=False))


class TouchKind(Kind):
    """A touch pad."""

    terminals = {"pin": "the pad"}
    name = "touch"
    help = "a touch pad"
    fields = (
        pin("pin", "the touch sensing pin"),
        number("change", "how far from its usual reading counts as touched, %", 25),
    )
    events = {"pressed": "touched", "released": "let go"}
    wiring = (
        "A wire or a foil behind plastic, to a touch pin of the chip, as short as it can be and "
        "away from mains cables; nothing else on the pin."
    )
    example = "[touch.rail]\npin = 4"

    def properties(self, part: Part) -> Mapping[str, Property]:
        return state_property("down", "touched at this moment")

    def needs(self, part: Part) -> Iterable[Need]:
        return [Need("pin", "touch", circuit="a bare touch pad")]

    def driver(self, part: Part) -> Driver:
        return Driver("touch", "Touch", (part.pins["pin"].gpio, part.get("change", 25) / 100))

    def simulation(self, part: Part) -> Simulation:
        if "pin" not in part.pins:
            return Simulation()
        at = part.pins["pin"].gpio
        return Simulation(stimuli={"down": SetQuantity("touch", at)}, gestures={"press": Finger(at)})


KIND = TouchKind()
