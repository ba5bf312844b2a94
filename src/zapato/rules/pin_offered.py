"""pin-too-slow, pin-weak-high: what the pins of an expander or a converter cannot do."""

from zapato.checks.rule import Incompatibility, PinRule, device
from zapato.design.design import Design, PinUse

_BUS = "[i2c.main]\nsda = 21\nscl = 22\n\n"


def _slow(use: PinUse, design: Design) -> Incompatibility | None:
    need = use.need
    if use.pin.gpio >= 0 or not (need.use == "line" or need.controller or need.timed):
        return None
    what = (
        "a bus or serial line"
        if need.controller
        else "a line with exact times"
        if need.use == "line"
        else "a train of exact pulses"
    )
    message = f"{use.pin.name} is reached over I2C, and {use.part.id} needs {what}"
    why = "one change of the pin takes a whole message on the bus, 0.2 ms and more at 100 kHz, where a few microseconds are asked for"
    return Incompatibility("error", message, why, "NXP UM10204, The I2C-bus protocol")


def _weak(use: PinUse, design: Design) -> Incompatibility | None:
    if not use.pin.weak_high or use.need.use != "output" or use.need.active != "high":
        return None
    message = f"{use.pin.name} cannot switch {use.part.id} on with a high level, and is high from power-up on"
    why = "high is a current source of 100 uA, which drives no input that needs current, and it stands from power-up until the program runs"
    return Incompatibility(
        "error", message, why, use.pin.source, ('a part that is active low, with active = "low"',)
    )


RULES = (
    PinRule(
        code="pin-too-slow",
        family="pins",
        severities=("error",),
        title="the pin of an expander is too slow for this part",
        story="""
A pin of an expander changes when a message on the bus says so, a few thousand times a second at the
most, and is read in the same way. A button, a contact, a relay or an LED is fine there. A one-wire
sensor, a DHT22, an addressable strip, a serial link or another bus needs edges that come within
microseconds: only a pin of the chip itself does that.
""",
        failing=device(
            _BUS
            + '[expander.io]\nchip = "mcp23017"\nbus = "main"\n\n[sensor.cabinet]\nchip = "dht22"\npin = "io.3"'
        ),
        mended=device(
            _BUS
            + '[expander.io]\nchip = "mcp23017"\nbus = "main"\n\n[sensor.cabinet]\nchip = "dht22"\npin = 27'
        ),
        judge=_slow,
    ),
    PinRule(
        code="pin-weak-high",
        family="pins",
        severities=("error",),
        title="the expander's high level drives nothing",
        story="""
The PCF8574 and its kin have pins that are pulled down firmly and let go weakly: a high level is a
current of a tenth of a milliampere. From power-up all of them are high. A relay or an LED that is
switched on by a high level is therefore wrong twice: on before the program runs, and not driven
afterwards. One that is active low is what these chips are made for.
""",
        failing=device(_BUS + '[expander.io]\nchip = "pcf8574"\nbus = "main"\n\n[relay.pump]\npin = "io.3"'),
        mended=device(
            _BUS
            + '[expander.io]\nchip = "pcf8574"\nbus = "main"\n\n[relay.pump]\npin = "io.3"\nactive = "low"'
        ),
        judge=_weak,
    ),
)
