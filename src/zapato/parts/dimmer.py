"""A dimmer: a lamp or motor whose level is set by pulse-width modulation, or by a true analog output."""

from __future__ import annotations

from collections.abc import Iterable

from zapato.lang.fields import choice, measured
from zapato.parts.model import Action, Argument, Kind, Need, Part, Property
from zapato.parts.switched import ON, SWITCHING, drive_need, switched_pin


def _needs(part: Part) -> Iterable[Need]:
    if part.get("by", "pwm") == "dac":
        return [Need("pin", "dac", circuit="an analog input that follows the pin's voltage")]
    return drive_need(
        part, "the gate of a power transistor", clicks=True, pwm=True, rate=part.get("rate", 1000)
    )


KIND = Kind(
    name="dimmer",
    help="a lamp or motor with a level from 0 to 100 %",
    fields=(
        *switched_pin("the dimmer"),
        choice("by", "how the level leaves the pin", "pwm", "dac", default="pwm"),
        measured("rate", "pulses a second", "Hz", 1000, least=1, most=40_000),
    ),
    properties=lambda part: {
        "on": ON,
        "level": Property("number", "%", settable=True, low=0, high=100, help="0 to 100 %"),
    },
    actions={
        **SWITCHING,
        "fade": Action(
            (Argument("level", "number"), Argument("time", "time")), help="go to a level within a time"
        ),
    },
    needs=_needs,
    example="[dimmer.hall]\npin = 25",
)
