"""An active buzzer: it sounds while its pin is active; `beep` gives a row of short tones."""

from zapato.extend import (
    SWITCHING,
    Action,
    Argument,
    Driver,
    Kind,
    Load,
    Part,
    Property,
    active_number,
    drive_need,
    level_bench,
    measured,
    on_property,
    switched_pin,
)


def _driver(part: Part) -> Driver | None:
    if "pin" not in part.pins:
        return None
    given = (part.at("pin"), active_number(part), part.get("start", "off") == "on", part.get("tone", 120))
    return Driver("buzzer", "Buzzer", given)


KIND = Kind(
    name="buzzer",
    help="an active buzzer: it sounds while it is on",
    fields=(
        *switched_pin("the buzzer", kept=False),
        measured("tone", "how long one beep is", "time", 120, least=20, most=2000),
    ),
    properties=lambda part: {
        **on_property(part),
        "left": Property("number", "count", help="beeps that are still to come"),
    },
    actions={**SWITCHING, "beep": Action((Argument("times", "number"),), help="so many short tones")},
    needs=lambda part: drive_need(part, "the input of a buzzer", clicks=True),
    driver=_driver,
    bench=level_bench,
    loads=lambda part: (Load("the buzzer", "pin", 0, 0.004, 0.008, "a small one of 3.3 V; from memory", "pin"),),
    wiring="Plus to the pin, minus to ground; through a transistor where it takes more than the pin bears.",
    example="[buzzer.hall]\npin = 26",
)
