"""pin-console: the pin carries the console, where boot messages and the log go."""

from zapato.boards.board import Board
from zapato.boards.port import port
from zapato.checks.rule import Incompatibility, PinRule, device
from zapato.design.design import Design, PinUse


def _incompatibility(use: PinUse, design: Design) -> Incompatibility | None:
    if not use.pin.console or design.board is None:
        return None
    name = design.called(use.pin)
    if use.need.controller.startswith("uart"):
        return _kept(use, design.board, name)
    if not design.board.bridge:
        return _without_bridge(use, design.board, name)
    if use.pin.console == "tx":
        why = "the boot messages are sent on this pin at every start, so what hangs on it flickers or clicks; the log is lost"
        message = f"{name} sends the console; {use.part.id} gets the boot messages"
    else:
        why = "the board's serial bridge drives this pin; the console and loading over the cable stop working"
        message = f"{name} receives the console, and {use.part.id} is on it"
    return Incompatibility("warning", message, why, use.pin.source)


def _kept(use: PinUse, board: Board, name: str) -> Incompatibility | None:
    """A serial link on the console's pins: an error where the port goes on reading there."""
    serial = port(board.chip.port).serial
    if serial.console not in serial.buffer_fixed:
        return None
    message = f"{name} is the console's, and {use.part.id} cannot have it"
    why = "the port keeps the console's serial controller: it refuses another buffer, and reads what arrives as typed text"
    return Incompatibility("error", message, why, serial.source)


def _without_bridge(use: PinUse, board: Board, name: str) -> Incompatibility | None:
    """Nothing on the board hangs on these pins: a serial adapter does, or nobody where the chip has USB."""
    if "own" in board.usb:
        if use.pin.console == "rx":
            return None
        message = f"{name} sends the chip's first boot messages, and {use.part.id} gets them"
        return Incompatibility("note", message, "the console itself is on the board's USB", use.pin.source)
    message = f"{name} is where the serial adapter loads the board and hears the console, and {use.part.id} is on it"
    why = (
        "the boot messages come out at every start"
        if use.pin.console == "tx"
        else "the adapter must be off while the part is used, and the part off while the board is loaded"
    )
    return Incompatibility("warning", message, why, use.pin.source)


RULE = PinRule(
    code="pin-console",
    family="pins",
    severities=("error", "warning", "note"),
    title="the pin carries the console",
    story="""
Two pins lead to the board's serial bridge: the chip sends its boot messages and the log on one,
and listens on the other when a program is loaded. A relay on the sending pin clicks at every
start with the rhythm of the messages; a part on the receiving pin fights the bridge.

On the ESP32 family a serial link on these pins is an error: the port goes on reading there.

It can be done where pins are scarce (a small ESP8266 module), if the part bears the pulses and
the board is loaded before the part is connected.
""",
    failing=device("[relay.heater]\npin = 1"),
    mended=device("[relay.heater]\npin = 26"),
    judge=_incompatibility,
)
