"""pin-no-interrupt: an interrupt is asked of a pin that has none."""

from zapato.checks.rule import Incompatibility, PinRule, device
from zapato.design.design import Design, PinUse


def _incompatibility(use: PinUse, design: Design) -> Incompatibility | None:
    if not use.need.interrupt or use.pin.interrupt or use.pin.analog_only:
        return None
    asked = use.part.values.get("watch") == "interrupt"
    wants = 'says watch = "interrupt"' if asked else "must see every edge"
    message = f"{design.called(use.pin)} has no interrupt, and {use.part.id} {wants}"
    own = use.pin.gpio >= 0 and design.board
    why = (
        design.board.chip.why.get("no-interrupt", "")
        if own and design.board
        else "the chip has no interrupt for this pin"
    )
    fixes = ('watch = "poll": look at it every 10 ms instead',) if asked else ()
    return Incompatibility("error", message, why, use.pin.source, fixes)


RULE = PinRule(
    code="pin-no-interrupt",
    family="pins",
    severities=("error",),
    title="the pin has no interrupt",
    story="""
An interrupt tells the program of an edge the moment it happens. Most pins have one; GPIO16 of the
ESP8266 and the pins of an expander do not. Without the key `watch` the runtime looks at such a pin
every 10 ms by itself, which is enough for buttons and doors; only an explicit watch = "interrupt"
is an error.
""",
    failing=device('[contact.door]\npin = "D0"\npull = "none"\nwatch = "interrupt"', "esp8266-30pin"),
    mended=device('[contact.door]\npin = "D0"\npull = "none"\nwatch = "poll"', "esp8266-30pin"),
    judge=_incompatibility,
)
