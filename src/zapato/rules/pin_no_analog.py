"""pin-no-analog: a voltage is to be measured on a pin without an analog input."""

from zapato.checks.rule import Incompatibility, PinRule, device
from zapato.design.design import Design, PinUse


def _incompatibility(use: PinUse, design: Design) -> Incompatibility | None:
    if use.need.use != "analog" or use.pin.adc:
        return None
    message = f"{design.called(use.pin)} has no analog input, and {use.part.id} measures a voltage"
    why = (
        design.board.chip.why.get(
            "no-analog", "no channel of the analog-to-digital converter reaches this pin"
        )
        if design.board
        else ""
    )
    return Incompatibility("error", message, why, use.pin.source)


RULE = PinRule(
    code="pin-no-analog",
    family="pins",
    severities=("error",),
    title="the pin has no analog input",
    story="""
A voltage is measured by the chip's analog-to-digital converter, and that is wired to some pins
only. On any other pin the program can tell high from low and nothing between.

Use a pin with an analog input, or a converter chip on the I2C bus.
""",
    failing=device('[sensor.tank]\nchip = "analog"\npin = 23'),
    mended=device('[sensor.tank]\nchip = "analog"\npin = 34'),
    judge=_incompatibility,
)
