"""A touch pad: a piece of metal on a touch sensing input."""

from __future__ import annotations

from zapato.lang.fields import pin
from zapato.parts.digital import state_property
from zapato.parts.model import Kind, Need

KIND = Kind(
    name="touch",
    help="a touch pad",
    fields=(pin("pin", "the touch sensing pin"),),
    properties=lambda part: state_property("down", "touched at this moment"),
    events={"pressed": "touched", "released": "let go"},
    needs=lambda part: [Need("pin", "touch", circuit="a bare touch pad")],
    example="[touch.rail]\npin = 4",
)
