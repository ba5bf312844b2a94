"""pin-no-pull: an internal resistor is asked of a pin that has none."""

from zapato.checks.rule import Incompatibility, PinRule, device
from zapato.design.design import Design, PinUse


def _incompatibility(use: PinUse, design: Design) -> Incompatibility | None:
    has = {"": True, "up": use.pin.pull_up, "down": use.pin.pull_down}[use.need.pull]
    if has or use.pin.analog_only:
        return None
    message = f"{design.called(use.pin)} has no internal pull-{use.need.pull} for {use.part.id}"
    board = design.board if use.pin.gpio >= 0 else None
    why = (
        board.chip.why.get("no-pull", "") if board else "the chip that offers this pin has a pull-up at most"
    )
    fixes = [
        f'a 10 kohm resistor from the pin to {"3.3 V" if use.need.pull == "up" else "ground"}, and pull = "none"'
    ]
    if use.need.pull == "down" and use.pin.pull_up:
        fixes.insert(0, 'switch to ground instead, with pull = "up" and active = "low"')
    return Incompatibility("error", message, why, use.pin.source, tuple(fixes))


RULE = PinRule(
    code="pin-no-pull",
    family="pins",
    severities=("error",),
    title="the pin has no internal resistor of that kind",
    story="""
An open switch leaves its pin connected to nothing. A resistor has to hold the level then, or
the input picks up whatever is in the air and triggers by itself. Most pins have one inside
(some tens of kilo-ohms) that the program can switch on; some have none, or only one of the two.

Without a resistor inside, fit one outside (10 kilo-ohms is usual) and say pull = "none".
""",
    failing=device('[contact.door]\npin = 35\npull = "up"'),
    mended=device('[contact.door]\npin = 35\npull = "none"'),
    judge=_incompatibility,
)
