"""Serial controllers: which one each serial link takes, and the pins that the port gives it unasked."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field

from zapato.boards.port import Port, port
from zapato.design.design import Design, once
from zapato.parts.kind import Part
from zapato.record import record

SWAPPED = 100
"""Added to a controller's number where its pins are its second set, which it takes whole or not at all."""


@record(frozen=True)
class Controller:
    """What a serial link takes.

    Attributes:
        number: the controller, or -1 where none is left.
        unasked: "tx" or "rx" -> GPIO that the port takes as well, because the device file names no pin for that line.
    """

    number: int
    unasked: Mapping[str, int] = field(default_factory=dict[str, int])


@once
def serial_controllers(design: Design) -> dict[str, Controller]:
    """The controller of each serial link whose pins are chosen, by the link's name."""
    parts = [part for part in design.with_role("uart") if part.placed]
    if design.board is None or not parts:
        return {}
    known = port(design.board.chip.port)
    if design.board.chip.routes.get("uart.tx"):
        return {part.name: _wired(design, part, known) for part in parts}
    return _dealt(design, parts, known)


def usable(design: Design) -> list[int]:
    """The controllers that a link may take: all but the console's where the port keeps that one."""
    if design.board is None:
        return []
    buffer = port(design.board.chip.port).serial.buffer_fixed
    return [number for number in range(design.board.chip.resources.uart) if number not in buffer]


def _missing(part: Part, number: int, known: Port) -> dict[str, int]:
    """The lines that the link leaves out, with the pins that the port takes for them."""
    defaults = zip(("tx", "rx"), known.serial.defaults.get(number, (-1, -1)), strict=True)
    return {line: gpio for line, gpio in defaults if line not in part.pins and gpio >= 0}


def _wired(design: Design, part: Part, known: Port) -> Controller:
    """On a chip whose controllers have fixed pins the pins say which one it is."""
    assert design.board
    routes = design.board.chip.routes
    for line, pin in part.pins.items():
        for number, gpios in routes.get(f"uart.{line}", {}).items():
            if pin.gpio not in gpios:
                continue
            if number < SWAPPED:
                own = number in routes["uart.rx"] and routes["uart.rx"][number]
                return Controller(number, _missing(part, number, known) if own else {})
            others = {line: routes[f"uart.{line}"][number][0] for line in ("tx", "rx")}
            return Controller(
                number - SWAPPED, {line: gpio for line, gpio in others.items() if line not in part.pins}
            )
    return Controller(-1)


def _dealt(design: Design, parts: list[Part], known: Port) -> dict[str, Controller]:
    """Where any pin reaches any controller: links with one line first, each on the controller whose other pin disturbs nobody."""
    assert design.board
    left = usable(design)
    controllers: dict[str, Controller] = {}
    for part in sorted(parts, key=lambda part: "tx" in part.pins and "rx" in part.pins):
        choices = [Controller(number, _missing(part, number, known)) for number in left]
        best = min(
            choices,
            key=lambda controller: (_harm(design, controller), controller.number),
            default=Controller(-1),
        )
        controllers[part.name] = best
        if best.number in left:
            left.remove(best.number)
    return controllers


def _harm(design: Design, controller: Controller) -> int:
    """2 where a pin taken unasked is the flash's or absent, 1 where a part is on it."""
    assert design.board
    pins = design.board.chip.pins
    taken = controller.unasked.values()
    if any(gpio not in pins or pins[gpio].flash for gpio in taken):
        return 2
    return int(any(gpio in design.users for gpio in taken))
