"""pin-analog-only: a pin that only measures is asked to be a digital one."""

from zapato.checks.rule import Incompatibility, PinRule, device
from zapato.design.design import Design, PinUse


def _incompatibility(use: PinUse, design: Design) -> Incompatibility | None:
    if not use.pin.analog_only or use.need.use != "input":
        return None
    message = f"{design.called(use.pin)} only measures a voltage, and {use.part.id} is a digital input"
    return Incompatibility(
        "error", message, "the pin leads to the converter alone and has no digital input", use.pin.source
    )


RULE = PinRule(
    code="pin-analog-only",
    family="pins",
    severities=("error",),
    title="the pin measures voltages and is no digital input",
    story="""
The analog input of the ESP8266 (A0) is wired to its converter and to nothing else: it has no
digital input, no interrupt and no resistor. A button or a contact belongs on a GPIO.
""",
    failing=device('[button.start]\npin = "A0"\npull = "none"', "esp8266-30pin"),
    mended=device('[button.start]\npin = "D1"\npull = "up"', "esp8266-30pin"),
    judge=_incompatibility,
)
