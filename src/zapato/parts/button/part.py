"""A push button: pressed, released, held, pressed twice."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from zapato.lang.fields import REQUIRED, measured
from zapato.parts.digital import input_driver, input_fields, input_need, input_simulation, state_property
from zapato.parts.kind import Driver, Kind, Need, Part, Property
from zapato.parts.simulation import Simulation


class ButtonKind(Kind):
    """A push button."""

    terminals = {"pin": "one side"}
    name = "button"
    help = "a push button"
    fields = (
        *input_fields("pressed", pull=REQUIRED, active="low", settle="30ms"),
        measured("hold", "down this long counts as held", "time", 3000, least=100),
        measured("double", "two presses within this time count as doubled", "time", 400, least=50),
    )
    events = {
        "pressed": "it went down",
        "released": "it came up",
        "held": "it has been down for the time `hold`",
        "doubled": "it went down twice within the time `double`",
    }
    wiring = (
        'Between the pin and ground with `pull = "up"` (`active = "low"` is the default). More '
        "than a metre of cable: a resistor of 4.7 kohm from the pin to 3.3 V beside the board, "
        "and the two wires twisted."
    )
    example = '[button.start]\npin = 33\npull = "up"'

    def properties(self, part: Part) -> Mapping[str, Property]:
        return {
            **state_property("down", "pressed at this moment"),
            "lasted": Property(
                "number",
                "s",
                unknown=True,
                low=0,
                help="how long it was down, when it came up; there where a link reads it",
                wanted=True,
            ),
        }

    def needs(self, part: Part) -> Iterable[Need]:
        return input_need(part, "low", "a push button")

    def driver(self, part: Part) -> Driver:
        plain = input_driver(part, "low", ("down", "pressed", "released"), ("button", "Button"))
        times = (part.get("hold", 3000), part.get("double", 400))
        asked = "lasted" in part.asked
        return Driver(
            plain.module,
            plain.cls,
            (*plain.arguments, *times),
            wraps=(*plain.wraps, *(("lasting", "Lasting", ()),) * asked),
        )

    def simulation(self, part: Part) -> Simulation:
        return input_simulation(
            part,
            "low",
            "down",
            {"press": (1, 120), "hold": (1, part.get("hold", 3000) + 200), "double": (2, 80)},
        )


KIND = ButtonKind()
