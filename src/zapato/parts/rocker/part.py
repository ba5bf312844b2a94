"""A rocker switch: it stays where it was put; a light follows it, or changes with its every move."""

from __future__ import annotations

from zapato.lang.fields import REQUIRED
from zapato.parts.digital import input_bench, input_driver, input_fields, input_need, state_property
from zapato.parts.model import Kind

KIND = Kind(
    terminals={"pin": "one side"},
    name="rocker",
    help="a switch that stays where it was put",
    fields=input_fields("on", pull=REQUIRED, active="low", settle="50ms"),
    properties=lambda part: state_property("on", "closed at this moment"),
    events={"changed": "it was moved, either way: for a light that several switches share"},
    needs=lambda part: input_need(part, "low", "a switch to ground"),
    driver=lambda part: input_driver(part, "low", ("on", "changed", "changed")),
    bench=lambda part: input_bench(part, "low", "on"),
    wiring=(
        'A wall switch between the pin and ground with `pull = "up"`, on its own cable at extra- '
        "low voltage, never across the mains."
    ),
    example='[rocker.stairs]\npin = 32\npull = "up"',
)
