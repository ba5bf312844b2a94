"""pin-analog-radio: an analog input that stops working while Wi-Fi is on."""

from zapato.checks.rule import Incompatibility, PinRule, device
from zapato.design.design import Design, PinUse

_WIFI = '\n[wifi]\nname = "refuge"\n'


def _incompatibility(use: PinUse, design: Design) -> Incompatibility | None:
    if use.need.use != "analog" or not use.pin.adc or use.pin.adc_radio or not design.radio:
        return None
    message = f"{design.called(use.pin)} cannot be measured while Wi-Fi is on"
    why = design.board.chip.why.get("analog-radio", "") if design.board else ""
    source = design.board.chip.sources["adc"] if design.board else ""
    return Incompatibility("error", message, why, source)


RULE = PinRule(
    code="pin-analog-radio",
    family="pins",
    severities=("error",),
    title="the radio takes this analog input",
    story="""
The ESP32 has two analog-to-digital converters. The radio needs the second one (ADC2) for itself
whenever Wi-Fi is on: a reading then fails. The pins of ADC2 are fine for everything digital, and
for analog only in a device without Wi-Fi.

Measure on the pins of ADC1 (GPIO32 to GPIO39 on the ESP32).
""",
    failing=device('[sensor.tank]\nchip = "analog"\npin = 26\n' + _WIFI),
    mended=device('[sensor.tank]\nchip = "analog"\npin = 34\n' + _WIFI),
    judge=_incompatibility,
)
