"""The board pin by pin: what stands where, what is free, and what is to be minded."""

from __future__ import annotations

from typing import Literal

from zapato.boards.board import Board, HeaderPin
from zapato.design.design import Design
from zapato.record import record

State = Literal["used", "free", "mind", "forbidden", "supply"]


@record(frozen=True)
class PinRow:
    """One place of a header.

    Attributes:
        side: of which header.
        label: printed beside it.
        gpio: the chip's number, or None.
        state: used, free, free with something to mind, forbidden, or supply and ground.
        use: the parts that stand there.
        can: what the pin can do.
        note: what to mind.
    """

    side: str
    label: str
    gpio: int | None
    state: State
    use: str = ""
    can: str = ""
    note: str = ""


def pin_rows(design: Design) -> list[PinRow]:
    """The board in header order."""
    board = design.board
    if board is None:
        return []
    return [_row(design, board, side, place) for side, row in board.headers.items() for place in row]


def _row(design: Design, board: Board, side: str, place: HeaderPin) -> PinRow:
    if place.gpio is None:
        return PinRow(side, place.label, None, "supply")
    pin = board.chip.pins[place.gpio]
    uses = ", ".join(
        dict.fromkeys(
            f"{use.part.name} {use.need.field}" if len(use.part.pins) > 1 else use.part.name
            for use in design.users.get(pin.gpio, ())
        )
    )
    words = (
        ("in", pin.reads), ("out", pin.drives), ("pwm", pin.pwm), ("adc", bool(pin.adc)),
        ("touch", pin.touch is not None), ("dac", pin.dac is not None),
    )  # fmt: skip
    can = " ".join(word for word, has in words if has)
    fitted = board.fitted_on.get(pin.gpio)
    note, state = "", "free"
    if pin.flash:
        note, state = f"flash {pin.flash}", "forbidden"
    elif fitted and fitted.taken:
        note, state = fitted.what, "forbidden"
    elif pin.boot and pin.boot.when in ("start", "download"):
        note, state = f"must be {pin.boot.level} at reset", "mind"
    elif pin.console:
        note, state = f"console {pin.console.upper()}", "mind"
    elif pin.usb:
        note, state = f"USB {pin.usb}", "mind"
    elif fitted:
        note, state = fitted.what, "mind"
    elif pin.analog_only:
        note, state = "analog only", "mind"
    elif not pin.drives:
        note, state = "input only", "mind"
    elif pin.adc and not pin.adc_radio and design.radio:
        note = "no analog while the radio is on"
    if uses and state != "forbidden":
        return PinRow(side, place.label, pin.gpio, "used", uses, can, note)
    return PinRow(side, place.label, pin.gpio, state, uses, can, note)  # type: ignore[arg-type]
