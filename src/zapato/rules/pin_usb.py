"""pin-usb: the pin carries the chip's own USB, which the board uses."""

from zapato.checks.rule import Incompatibility, PinRule, device
from zapato.design.design import Design, PinUse


def _incompatibility(use: PinUse, design: Design) -> Incompatibility | None:
    if not use.pin.usb or design.board is None or "own" not in design.board.usb:
        return None
    message = f"{design.called(use.pin)} is USB {use.pin.usb} of this board, and {use.part.id} is on it"
    why = "the board's USB socket leads to this pin; the console and loading over the cable are lost, and the cable disturbs the part"
    return Incompatibility("warning", message, why, use.pin.source)


RULE = PinRule(
    code="pin-usb",
    family="pins",
    severities=("warning",),
    title="the pin carries the board's USB",
    story="""
Newer chips have USB inside: two of their pins go straight to the socket. A part on one of them
works only while no cable is plugged in, and a program that takes these pins cannot be replaced
over the cable without the boot button.
""",
    failing=device("[relay.lamp]\npin = 19", "esp32s3-44pin"),
    mended=device("[relay.lamp]\npin = 21", "esp32s3-44pin"),
    judge=_incompatibility,
)
