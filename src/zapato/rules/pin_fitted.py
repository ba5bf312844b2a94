"""pin-fitted: something soldered to the board is on the pin already."""

from zapato.boards.board import Fitted
from zapato.checks.rule import Incompatibility, PinRule, device
from zapato.design.design import Design, PinUse


def _incompatibility(use: PinUse, design: Design) -> Incompatibility | None:
    fitted = design.board.fitted_on.get(use.pin.gpio) if design.board else None
    if fitted is None:
        return None
    if fitted.taken:
        why = fitted.why or f"{fitted.what} drives this pin all the time"
        return Incompatibility("error", f"{design.called(use.pin)} is taken by {fitted.what}", why)
    return (
        _mismatch(use, fitted, design)
        if fitted.is_for(*use.part.kind.all_roles)
        else _shared(use, fitted, design)
    )


def _mismatch(use: PinUse, fitted: Fitted, design: Design) -> Incompatibility | None:
    active = use.need.active or use.need.operated
    if not fitted.active or active in (None, fitted.active):
        return None
    message = f"{fitted.what} is active {fitted.active}, and {use.part.id} says active {active}"
    why = "on and off would be the wrong way round"
    return Incompatibility("warning", message, why, fixes=(f'active = "{fitted.active}"',))


def _shared(use: PinUse, fitted: Fitted, design: Design) -> Incompatibility:
    message = f"{design.called(use.pin)} carries {fitted.what} as well as {use.part.id}"
    does = {
        "led": "it lights with every change of the pin",
        "button": "pressing it changes the level under the part",
    }
    why = fitted.why or does.get(fitted.kind, "the two share one line")
    return Incompatibility("warning", message, why)


RULE = PinRule(
    code="pin-fitted",
    family="pins",
    severities=("error", "warning"),
    title="something soldered to the board is on this pin already",
    story="""
Boards come with parts of their own: an LED, a BOOT button, a radio chip, an Ethernet chip, a
camera, a card slot. Each hangs on pins of the chip. Where the fitted part drives the pin all
the time (a radio, an Ethernet chip, a camera), nothing else can be there: an error. Where it
only shares the line (an LED, a button), it works, with a side effect: a warning.

Declaring the fitted part itself is what the pin is for and gives no finding: an `led` on the
LED's pin, a `button` on the BOOT button's pin, with its real active level.
""",
    failing=device("[relay.lamp]\npin = 23", "rp2040w-40pin"),
    mended=device("[relay.lamp]\npin = 22", "rp2040w-40pin"),
    judge=_incompatibility,
)
