"""pin-pull-fought: the board's own resistor on the pin is stronger than the internal one that is asked for."""

from zapato.checks.rule import Incompatibility, PinRule, device
from zapato.design.design import Design, PinUse


def _incompatibility(use: PinUse, design: Design) -> Incompatibility | None:
    fitted = design.board.resistors.get(use.pin.gpio) if design.board else None
    if fitted is None or not use.need.pull or use.need.pull == fitted[0]:
        return None
    side, ohms = fitted
    level, rail = ("low", "ground") if side == "down" else ("high", "3.3 V")
    message = f"the internal pull-{use.need.pull} of {design.called(use.pin)} does not win: {use.part.id} always reads {level}"
    why = (
        f"the board has {ohms / 1000:g} kohm from this pin to {rail}, and the internal resistor has some tens of kohm; "
        f"the two divide the supply, and the level stays {level}"
    )
    source = design.board.chip.sources.get("strap", "") if design.board else ""
    fixes = (
        f'switch to the other side, with pull = "none" and active = "{"high" if side == "down" else "low"}"',
    )
    return Incompatibility("error", message, why, source, fixes)


RULE = PinRule(
    code="pin-pull-fought",
    family="pins",
    severities=("error",),
    title="the board's own resistor wins over the internal pull",
    story="""
Boards fit resistors to the pins that decide how the chip starts, some 10 kilo-ohms to 3.3 V or to
ground. The pull inside the chip has several times as many ohms and cannot win against them: an
input with the opposite pull reads the same level for ever, as if the button were always pressed.

Use the board's resistor instead of the internal one: connect the button to the other side.
""",
    failing=device('[button.start]\npin = "D8"\npull = "up"', "esp8266-30pin"),
    mended=device('[button.start]\npin = "D7"\npull = "up"', "esp8266-30pin"),
    judge=_incompatibility,
)
