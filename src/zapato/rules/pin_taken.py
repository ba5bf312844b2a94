"""pin-taken: two parts on one pin."""

from collections.abc import Iterator

from zapato.checks.compatibility import another_pin
from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design, PinUse
from zapato.findings import Finding


def _find(design: Design) -> Iterator[Finding]:
    for uses in design.users.values():
        first, *others = uses
        for use in others:
            line = design.document.place(first.path).line
            yield design.finding(
                "pin-taken",
                "error",
                use.path,
                _message(design, first, use, line),
                why="one pin carries one signal: two parts on it would fight over the level.",
                fixes=(another_pin(use, design),),
                pin=use.pin,
            )


def _message(design: Design, first: PinUse, use: PinUse, line: int) -> str:
    name = design.called(use.pin)
    if first.part is use.part:
        return f"{first.need.field} and {use.need.field} of {use.part.id} are both on {name}"
    return f"{name} is used twice: by {first.part.id} (line {line}) and by {use.part.id}"


RULE = DesignRule(
    code="pin-taken",
    family="pins",
    severities=("error",),
    title="two parts are on the same pin",
    story="""
Each pin carries one signal. Where a device file was copied from another one, the same number
easily stays in two places. Chips on an I2C bus do share their two lines: they name the bus, and
only the bus names the pins.
""",
    failing=device("[relay.heater]\npin = 26\n\n[relay.vent]\npin = 26"),
    mended=device("[relay.heater]\npin = 26\n\n[relay.vent]\npin = 25"),
    find=_find,
)
