"""A motion sensor with a digital output."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from zapato.parts.digital import input_driver, input_fields, input_need, input_simulation, state_property
from zapato.parts.electrical import INPUT, Load, Supplied, drawing, fed, supplied_with
from zapato.parts.kind import Driver, Kind, Need, Part, Property
from zapato.parts.simulation import Simulation


class MotionKind(Kind):
    """A motion sensor with a digital output."""

    terminals = {"pin": "OUT"}
    name = "motion"
    help = "a motion sensor with a digital output"
    fields = (*input_fields("motion", pull="none", active="high", settle="100ms"), *fed('"5V"'))
    events = {"started": "motion began", "ended": "motion ended"}
    wiring = (
        "Three wires: supply (many take 5 V, their output is 3.3 V: look at its sheet), ground, "
        "output to the pin. It needs up to a minute after power-up until it is quiet."
    )
    example = "[motion.porch]\npin = 14"

    def supplied(self, part: Part) -> Supplied | None:
        return supplied_with(
            part,
            "the motion sensor",
            2.7,
            20,
            "the widest that such modules take: 2.7 V to 12 V the small ones, 5 V to 20 V the large; from memory",
        )

    def loads(self, part: Part) -> Iterable[Load]:
        return drawing(part, "the motion sensor", INPUT, 0.001)

    def properties(self, part: Part) -> Mapping[str, Property]:
        return state_property("present", "motion is seen")

    def needs(self, part: Part) -> Iterable[Need]:
        return input_need(part, "high", "a motion sensor, whose output drives the line", driven=True)

    def driver(self, part: Part) -> Driver | None:
        return input_driver(part, "high", ("present", "started", "ended"))

    def simulation(self, part: Part) -> Simulation:
        return input_simulation(part, "high", "present")


KIND = MotionKind()
