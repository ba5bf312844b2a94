"""pin-flash: the pin carries the flash chip that the program runs from."""

from zapato.checks.rule import Incompatibility, PinRule, device
from zapato.design.design import Design, PinUse


def _incompatibility(use: PinUse, design: Design) -> Incompatibility | None:
    if not use.pin.flash:
        return None
    message = f"{design.called(use.pin)} is a line of the flash chip ({use.pin.flash})"
    why = "the chip reads its program through this pin all the time; anything else on it crashes the start"
    return Incompatibility("error", message, why, use.pin.source)


RULE = PinRule(
    code="pin-flash",
    family="pins",
    severities=("error",),
    title="the pin carries the flash chip that the program runs from",
    story="""
The program is not in the chip: it lies in a flash chip beside it, on the same module, and is
read line by line while it runs. The pins between the two often come out on the header all the
same (SD0, SD1, CLK, CMD…), because the module has them. A relay or a button there disturbs the
reading: the board restarts in a loop or does not start at all.
""",
    failing=device("[relay.heater]\npin = 6"),
    mended=device("[relay.heater]\npin = 26"),
    judge=_incompatibility,
)
