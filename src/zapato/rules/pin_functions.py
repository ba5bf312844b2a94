"""pin-no-pwm, pin-no-touch, pin-no-dac: a function is asked of a pin that does not have it."""

from collections.abc import Callable

from zapato.boards.board import Pin
from zapato.checks.rule import Incompatibility, PinRule, device
from zapato.design.design import Design, PinUse

TOUCH_MODULE = 'a touch module has a digital output: [button.NAME] with pull = "none" and active = "high"'


def _lacks(
    code: str, wanted: Callable[[PinUse], bool], has: Callable[[Pin], bool], what: str
) -> Callable[[PinUse, Design], Incompatibility | None]:
    """The judgement: the use wants the function and the pin has it not."""

    def incompatibility(use: PinUse, design: Design) -> Incompatibility | None:
        if not wanted(use) or has(use.pin):
            return None
        board = design.board if use.pin.gpio >= 0 else None
        why = (
            board.chip.why.get(code.removeprefix("pin-"), "")
            if board
            else "the pin is not one of the chip's own"
        )
        fixes = (TOUCH_MODULE,) if code == "pin-no-touch" else ()
        message = f"{design.called(use.pin)} has no {what} for {use.part.id}"
        return Incompatibility("error", message, why, use.pin.source, fixes)

    return incompatibility


RULES = (
    PinRule(
        code="pin-no-pwm",
        family="pins",
        severities=("error",),
        title="the pin cannot carry pulse-width modulation",
        story="""
A dimmer switches its pin on and off some thousand times a second and varies how long it is on.
The pins of an expander are far too slow for that, and a few pins of the ESP8266 are not among
those its program can modulate.
""",
        failing=device('[dimmer.hall]\npin = "D0"', "esp8266-30pin"),
        mended=device('[dimmer.hall]\npin = "D1"', "esp8266-30pin"),
        judge=_lacks(
            "pin-no-pwm", lambda u: u.need.pwm and u.pin.drives, lambda p: p.pwm, "pulse-width modulation"
        ),
    ),
    PinRule(
        code="pin-no-touch",
        family="pins",
        severities=("error",),
        title="the pin cannot sense touch",
        story="""
A touch pad is felt by how slowly it charges. The circuit for that sits behind some pins of some
chips only. A touch module with an output of its own is a button, and can be on any input.
""",
        failing=device("[touch.rail]\npin = 25"),
        mended=device("[touch.rail]\npin = 4"),
        judge=_lacks(
            "pin-no-touch", lambda u: u.need.use == "touch", lambda p: p.touch is not None, "touch sensing"
        ),
    ),
    PinRule(
        code="pin-no-dac",
        family="pins",
        severities=("error",),
        title="the pin has no true analog output",
        story="""
A digital-to-analog converter puts a steady voltage on its pin. The ESP32 and the ESP32-S2 have
two, on fixed pins; the other chips have none. by = "pwm" works on nearly any pin and, through a
resistor and a capacitor, gives a steady voltage, too.
""",
        failing=device('[dimmer.hall]\npin = 27\nby = "dac"'),
        mended=device('[dimmer.hall]\npin = 25\nby = "dac"'),
        judge=_lacks(
            "pin-no-dac",
            lambda u: u.need.use == "dac" and u.pin.drives,
            lambda p: p.dac is not None,
            "analog output",
        ),
    ),
)
