"""pin-console: the pin carries the console, where boot messages and the log go."""

from zapato.checks.model import Objection, Rule, device
from zapato.design.model import Design, PinUse


def _objection(use: PinUse, design: Design) -> Objection | None:
    if not use.pin.console:
        return None
    name = design.called(use.pin)
    if use.pin.console == "tx":
        why = "the boot messages are sent on this pin at every start, so what hangs on it flickers or clicks; the log is lost"
        message = f"{name} sends the console; {use.part.id} gets the boot messages"
    else:
        why = "the board's serial bridge drives this pin; the console and loading over the cable stop working"
        message = f"{name} receives the console, and {use.part.id} is on it"
    return Objection("warning", message, why, use.pin.source)


RULE = Rule(
    code="pin-console",
    family="pins",
    severities=("warning",),
    title="the pin carries the console",
    story="""
Two pins lead to the board's serial bridge: the chip sends its boot messages and the log on one,
and listens on the other when a program is loaded. A relay on the sending pin clicks at every
start with the rhythm of the messages; a part on the receiving pin fights the bridge.

It can be done where pins are scarce (a small ESP8266 module), if the part bears the pulses and
the board is loaded before the part is connected.
""",
    failing=device("[relay.heater]\npin = 1"),
    mended=device("[relay.heater]\npin = 26"),
    objection=_objection,
)
