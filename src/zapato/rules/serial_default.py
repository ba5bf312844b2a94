"""pin-serial: the port takes this pin for a serial link that names another."""

from collections.abc import Iterator

from zapato.boards.port import port
from zapato.checks.rule import Incompatibility, PinRule, device
from zapato.design.design import Design, PinUse
from zapato.design.serial import serial_controllers
from zapato.findings import Finding
from zapato.parts.kind import Part

WORDS = {"tx": "sending", "rx": "receiving"}


def _taken(design: Design) -> Iterator[tuple[int, Part, str, int]]:
    """Each pin that is taken unasked, the link, which line it is, and of which controller."""
    for name, controller in serial_controllers(design).items():
        for line, gpio in controller.unasked.items():
            yield gpio, design.parts[name], line, controller.number


def _incompatibility(use: PinUse, design: Design) -> Incompatibility | None:
    if design.board is None:
        return None
    for gpio, link, line, number in _taken(design):
        if gpio == use.pin.gpio and link is not use.part:
            return Incompatibility(
                "error",
                f"{design.called(use.pin)} is the {WORDS[line]} pin of serial controller {number}, which {link.id} takes whole",
                f"{link.id} names no {line}, so the port connects the controller's own pin at every start, and {use.part.id} is driven or let go for a moment",
                port(design.board.chip.port).serial.source,
                (f"give {link.id} a free pin as {line}",),
            )
    return None


def _find(design: Design) -> Iterator[Finding]:
    """A pin that is taken unasked carries the flash."""
    if design.board is None:
        return
    known = port(design.board.chip.port)
    for gpio, link, line, number in _taken(design):
        pin = design.board.chip.pins.get(gpio)
        if pin is None or pin.flash:
            yield design.finding(
                "pin-serial",
                "error",
                link.path,
                f"{link.id} would take GPIO{gpio} as the {WORDS[line]} pin of serial controller {number}, and the flash is on it",
                why=f"{link.id} names no {line}, so the port connects the controller's own pin ({known.serial.source}).",
                fixes=(f"give {link.id} a free pin as {line}",),
                of="key",
            )


RULE = PinRule(
    code="pin-serial",
    family="pins",
    severities=("error",),
    title="the port takes this pin for a serial link",
    story="""
A serial controller has two lines. Where a device file names only one of them, the port still connects
the other to the controller's own pin: GPIO0 or GPIO1 for controller 0 of the RP2040, GPIO16 or GPIO17 for
controller 2 of the ESP32. A relay on that pin is pulled for a moment at every start, before its own
driver takes the pin back; a button there reads wrong.

Give the link a free pin for its other line, or move the part.
""",
    failing=device("[uart.meter]\nrx = 13\nbaud = 9600\n\n[relay.pump]\npin = 0", "rp2040w-40pin"),
    mended=device("[uart.meter]\nrx = 13\nbaud = 9600\n\n[relay.pump]\npin = 2", "rp2040w-40pin"),
    find=_find,
    judge=_incompatibility,
)
