"""An active buzzer: it sounds while its pin is active; `beep` gives a row of short tones."""

from collections.abc import Iterable, Mapping

from zapato.extend import (
    SWITCHING,
    Action,
    Argument,
    Driver,
    Kind,
    Load,
    Need,
    Part,
    Property,
    Simulation,
    active_number,
    drive_need,
    level_simulation,
    measured,
    on_property,
    switched_pin,
)


class BuzzerKind(Kind):
    """An active buzzer: it sounds while it is on."""

    name = "buzzer"
    help = "an active buzzer: it sounds while it is on"
    fields = (
        *switched_pin("the buzzer", persisted=False),
        measured("tone", "how long one beep is", "time", 120, least=20, most=2000),
    )
    actions = {**SWITCHING, "beep": Action((Argument("times", "number"),), help="so many short tones")}
    wiring = "Plus to the pin, minus to ground; through a transistor where it takes more than the pin bears."
    example = "[buzzer.hall]\npin = 26"

    def properties(self, part: Part) -> Mapping[str, Property]:
        return {
            **on_property(part),
            "left": Property("number", "count", help="beeps that are still to come"),
        }

    def needs(self, part: Part) -> Iterable[Need]:
        return drive_need(part, "the input of a buzzer", clicks=True)

    def driver(self, part: Part) -> Driver | None:
        if "pin" not in part.pins:
            return None
        given = (part.at("pin"), active_number(part), part.get("start", "off") == "on", part.get("tone", 120))
        return Driver("buzzer", "Buzzer", given)

    def simulation(self, part: Part) -> Simulation:
        return level_simulation(part)

    def loads(self, part: Part) -> Iterable[Load]:
        return (Load("the buzzer", "pin", 0, 0.004, 0.008, "a small one of 3.3 V; from memory", "pin"),)


KIND = BuzzerKind()
