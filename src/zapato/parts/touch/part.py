"""A touch pad: a piece of metal on a touch sensing input."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from zapato.lang.fields import number, pin
from zapato.parts.digital import state_property
from zapato.parts.model import Bench, Driver, Kind, Need, Part, Stimulus, World
from zapato.parts.stimuli import Quantity


def _driver(part: Part) -> Driver:
    return Driver("touch", "Touch", (part.pins["pin"].gpio, part.get("change", 25) / 100))


TOUCH = 200
"""ms of a finger on a touch pad."""


@dataclass(frozen=True)
class Finger(Stimulus):
    """A finger on the pad."""

    gpio: int

    def put(self, world: World, value: Any, over: int = 0) -> None:
        world.feel("touch", self.gpio, value=True)
        world.after(TOUCH, lambda: world.feel("touch", self.gpio, value=False))


def _bench(part: Part) -> Bench:
    if "pin" not in part.pins:
        return Bench()
    at = part.pins["pin"].gpio
    return Bench(sets={"down": Quantity("touch", at)}, acts={"press": Finger(at)})


KIND = Kind(
    terminals={"pin": "the pad"},
    name="touch",
    help="a touch pad",
    fields=(
        pin("pin", "the touch sensing pin"),
        number("change", "how far from its usual reading counts as touched, %", 25),
    ),
    properties=lambda part: state_property("down", "touched at this moment"),
    events={"pressed": "touched", "released": "let go"},
    needs=lambda part: [Need("pin", "touch", circuit="a bare touch pad")],
    driver=_driver,
    bench=_bench,
    wiring=(
        "A wire or a foil behind plastic, to a touch pin of the chip, as short as it can be and "
        "away from mains cables; nothing else on the pin."
    ),
    example="[touch.rail]\npin = 4",
)
