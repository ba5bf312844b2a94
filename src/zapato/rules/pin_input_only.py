"""pin-input-only: a pin without an output driver is asked to drive something."""

from zapato.checks.rule import Incompatibility, PinRule, device
from zapato.design.design import Design, PinUse

_DRIVES = ("output", "line", "dac")


def _incompatibility(use: PinUse, design: Design) -> Incompatibility | None:
    if use.pin.drives or use.need.use not in _DRIVES:
        return None
    if use.pin.analog_only:
        why = f"{use.pin.name} is an analog input and nothing else"
    else:
        why = design.board.chip.why.get("input-only", "the pin has no output driver") if design.board else ""
    verb = "drives" if use.need.use == "output" else "talks both ways on"
    message = f"{design.called(use.pin)} can only read, and {use.part.id} {verb} its {use.need.field}"
    return Incompatibility("error", message, why, use.pin.source)


RULE = PinRule(
    code="pin-input-only",
    family="pins",
    severities=("error",),
    title="the pin can only read, and the part must drive it",
    story="""
Some pins have an input buffer and no output driver: the transistor that would pull the line
high or low is simply not on the silicon. On the ESP32 these are GPIO34 to GPIO39. No setting
changes that; the firmware would run without an error and the relay would never move.

Use such pins for what only listens: buttons with their own resistor, contacts, analog sensors.
""",
    failing=device("[relay.heater]\npin = 34"),
    mended=device("[relay.heater]\npin = 25"),
    judge=_incompatibility,
)
