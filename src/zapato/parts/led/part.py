"""An LED: a light on one pin; it can show the device's state or follow an expression."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from zapato.lang.fields import measured, text
from zapato.parts.electrical import OWN, PIN, Load, Passive, ohms, usual
from zapato.parts.kind import Action, Argument, Driver, Kind, Need, Part, Property
from zapato.parts.simulation import Simulation
from zapato.parts.switched import (
    SWITCHING,
    active_number,
    drive_need,
    level_simulation,
    longest_on,
    on_property,
    start_level,
    switched_pin,
    with_longest,
)

RESISTOR, FORWARD = 330, 2.0
"""ohm and V of a usual LED at a pin of 3.3 V: some 4 mA."""
LOGIC = 3.3
BARE = 25.0
"""ohm that a pin's own transistor has, about: what limits the current where nothing else does (ESP32 and RP2040 data sheets, V_OL at the rated current)."""


STATUS = (
    (100, 100, "looking for its network (dark for a second before: it starts)"),
    (500, 500, "the network is there, the broker not yet"),
    (0, 0, "it is connected and works (lit steadily)"),
    (100, 1900, "the broker refuses it: user, password or rights"),
    (1900, 100, "it works again after a fault, which is reported in notes"),
    (50, 450, "an update comes"),
    (1000, 1000, "its access point is open: join the network that is called like the device"),
)
"""What a status LED says: ms lit, ms dark, and what that means; the runtime's blink codes, in its order."""


class LedKind(Kind):
    """A light on one pin."""

    name = "led"
    help = "a light on one pin"
    fields = (
        *switched_pin("the LED", persisted=False),
        longest_on(),
        measured("current", "its current; from the resistor where absent", "A", None, most=1),
        measured("resistor", "the resistor in series; 0 where there is none", "ohm", RESISTOR, most=1e6),
        measured("forward", "its own voltage", "V", FORWARD, least=1, most=5),
        text(
            "shows",
            'what it shows by itself: "status" (a blink code), or an expression such as "heater.on"',
            role="condition",
        ),
    )
    follows = "shows"
    actions = {
        **SWITCHING,
        "blink": Action((Argument("period", "time"),), undo="off", help="on and off, one cycle a period"),
    }
    words = ("status",)
    terminals = {"pin": "long leg", "pin low": "short leg"}
    wiring = (
        "From the pin through a resistor of 220 ohm to 1 kohm to the LED's longer leg, the "
        "shorter one to ground; or from 3.3 V through LED and resistor to the pin with `active = "
        '"low"`.'
    )
    example = '[led.ready]\npin = 2\nshows = "status"'

    def properties(self, part: Part) -> Mapping[str, Property]:
        return on_property(part)

    def needs(self, part: Part) -> Iterable[Need]:
        side = "ground" if active_number(part) else "the supply"
        return drive_need(part, f"an LED and its series resistor to {side}")

    def driver(self, part: Part) -> Driver:
        active = active_number(part)
        shows_status = part.get("shows", "") == "status"
        arguments = (part.at("pin"), active, start_level(part) == active, shows_status)
        return with_longest(Driver("led", "Led", arguments), part)

    def simulation(self, part: Part) -> Simulation:
        return level_simulation(part)

    def loads(self, part: Part) -> Iterable[Load]:
        given = part.values.get("current")
        ohm = part.get("resistor", RESISTOR)
        taken = given if given is not None else max(0.0, LOGIC - part.get("forward", FORWARD)) / (ohm or BARE)
        source = (
            OWN
            if given is not None or part.values.get("resistor") not in (None, RESISTOR)
            else usual("330 ohm in series")
        )
        yield Load("the LED", PIN, 0, taken / 2, taken, source, "pin")

    def beside(self, part: Part, logic: float) -> Iterable[Passive]:
        ohm = part.get("resistor", RESISTOR)
        if ohm:
            yield Passive(
                "resistor",
                ohms(ohm),
                "in series with the LED",
                "limits the current to what LED and pin bear",
                "pin",
            )


KIND = LedKind()
