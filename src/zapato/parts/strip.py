"""A strip of addressable LEDs on one data pin."""

from __future__ import annotations

from zapato.lang.fields import choice, pin, whole
from zapato.parts.model import Action, Argument, Kind, Need, Property
from zapato.parts.switched import ON, SWITCHING

KIND = Kind(
    name="strip",
    help="a strip of addressable LEDs",
    fields=(
        pin("pin", "the data pin"),
        whole("count", "LEDs on this pin", least=1, most=4096),
        choice("chip", "the LEDs' driver chip", "ws2812b", "ws2811", "sk6812"),
    ),
    properties=lambda part: {
        "on": ON,
        "level": Property("number", "%", settable=True, low=0, high=100, help="brightness, 0 to 100 %"),
        "color": Property("text", settable=True, help='as "#rrggbb"'),
        "effect": Property(
            "text",
            settable=True,
            options=("still", "breathe", "flow", "sparkle"),
            help="what it shows by itself",
        ),
    },
    actions={**SWITCHING, "show": Action((Argument("effect", "text"),), help="show an effect")},
    needs=lambda part: [Need("pin", "output", timed=True, circuit="the data input of a strip")],
    example='[strip.rack]\npin = 13\ncount = 60\nchip = "ws2812b"',
)
