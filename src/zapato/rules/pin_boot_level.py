"""pin-boot-level: what hangs on a boot pin can hold it at the level that keeps the board from starting."""

from zapato.boards.board import Boot
from zapato.checks.rule import Incompatibility, PinRule, device
from zapato.design.design import Design, PinUse

_BITES = ("start", "download")


def _incompatibility(use: PinUse, design: Design) -> Incompatibility | None:
    boot, need = use.pin.boot, use.need
    if boot is None or boot.when not in _BITES or _own_part(use, design):
        return None
    if boot.when == "start" and need.usual and need.usual != boot.level:
        message = f"{use.part.id} holds {design.called(use.pin)} {need.usual} most of the time, and the board then does not start"
        return Incompatibility("error", message, f"{boot.why}; there is {need.circuit}", _source(use, design))
    if need.rest and need.rest != boot.level:
        return _held(use, boot, design)
    if boot.when == "start" and need.operated and need.operated != boot.level:
        message = f"{use.part.id} holds {design.called(use.pin)} {need.operated} when operated at power-up, and the board does not start"
        return Incompatibility(
            "warning", message, f"{boot.why}; {need.circuit} can do that", _source(use, design)
        )
    return None


def _held(use: PinUse, boot: Boot, design: Design) -> Incompatibility:
    need, name = use.need, design.called(use.pin)
    if boot.when == "download":
        message = (
            f"{use.part.id} can hold {name} {need.rest}: the board then takes no new program over its cable"
        )
        return Incompatibility(
            "warning", message, f"{boot.why}; there is {need.circuit}", _source(use, design)
        )
    if need.firm:
        message = f"{use.part.id} holds {name} {need.rest} at power-up, and the board will not start"
        return Incompatibility("error", message, f"{boot.why}; there is {need.circuit}", _source(use, design))
    message = f"{use.part.id} can hold {name} {need.rest} at power-up, and the board may not start"
    return Incompatibility("warning", message, f"{boot.why}; there is {need.circuit}", _source(use, design))


def _source(use: PinUse, design: Design) -> str:
    return design.board.chip.sources.get("strap", use.pin.source) if design.board else ""


def _own_part(use: PinUse, design: Design) -> bool:
    """What the board's maker put on this pin, declared as what it is: its circuit lets the board start."""
    fitted = design.board.fitted_on.get(use.pin.gpio) if design.board else None
    return fitted is not None and fitted.is_for(*use.part.kind.all_roles)


RULE = PinRule(
    code="pin-boot-level",
    family="pins",
    severities=("error", "warning"),
    title="the part can hold a boot pin at the level that keeps the board from starting",
    story="""
At the moment of power-up the chip reads a few of its pins to learn how to start: from its
program, or waiting for one over the cable; with 3.3 V or 1.8 V for its flash. Weak resistors
hold these pins at the right level. A part that is stronger than they are decides instead: the
pull-up of a one-wire sensor, the input of a relay board, a button that happens to be pressed.

It is an error where the part has a resistor that surely wins, a warning where it depends on the
board behind it or on somebody pressing at the wrong moment. A level that only blocks loading a
new program over the cable is a warning, too.
""",
    failing=device('[sensor.cabinet]\nchip = "dht22"\npin = 12'),
    mended=device('[sensor.cabinet]\nchip = "dht22"\npin = 27'),
    judge=_incompatibility,
)
