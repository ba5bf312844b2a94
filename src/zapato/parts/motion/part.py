"""A motion sensor with a digital output."""

from __future__ import annotations

from zapato.parts.digital import input_bench, input_driver, input_fields, input_need, state_property
from zapato.parts.electrical import INPUT, drawing, fed, supplied
from zapato.parts.model import Kind

KIND = Kind(
    terminals={"pin": "OUT"},
    name="motion",
    help="a motion sensor with a digital output",
    fields=(*input_fields("motion", pull="none", active="high", settle="100ms"), *fed('"5V"')),
    supplied=supplied(
        "the motion sensor",
        2.7,
        20,
        "the widest that such modules take: 2.7 V to 12 V the small ones, 5 V to 20 V the large; from memory",
    ),
    loads=drawing("the motion sensor", INPUT, 0.001),
    properties=lambda part: state_property("present", "motion is seen"),
    events={"started": "motion began", "ended": "motion ended"},
    needs=lambda part: input_need(part, "high", "a motion sensor, whose output drives the line", driven=True),
    driver=lambda part: input_driver(part, "high", ("present", "started", "ended")),
    bench=lambda part: input_bench(part, "high", "present"),
    wiring=(
        "Three wires: supply (many take 5 V, their output is 3.3 V: look at its sheet), ground, "
        "output to the pin. It needs up to a minute after power-up until it is quiet."
    ),
    example="[motion.porch]\npin = 14",
)
