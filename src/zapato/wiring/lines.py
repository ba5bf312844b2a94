"""Lines that several share: buses, and the two wires of RS-485."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from zapato.boards.board import Board
from zapato.parts.electrical import RAIL, ohms
from zapato.parts.kind import Part
from zapato.wiring.sheet import GROUND, Wire

TERMINATION, BIAS = 120.0, 680.0
"""ohm: at both ends of the line, as the cable's impedance; from A to 3.3 V and from B to ground, so that an idle line rests (TIA-485-A; Modbus over serial line V1.02, 3.4.5 and 3.4.6)."""


def shared_lines(board: Board, part: Part) -> Iterator[Wire]:
    """From a bus to a part on it."""
    bus = part.linked.get("bus")
    if bus is None or bus.has_role("uart"):
        return
    shift = "level shifter" if part.get("shifted", False) else ""
    for name, start in bus.kind.ends(bus).items():
        end = part.kind.terminals.get("pin", name) if bus.has_role("onewire") else name
        yield Wire(start, f"{part.name} {end}", "signal", part.name, board.chip.logic, shift)


def rs485(board: Board, part: Part, places: Mapping[str, str]) -> Iterator[Wire]:
    """The driver between the board's lines and A and B; its far side is a cable to the meter."""
    driver, logic = f"{part.name} driver", board.chip.logic
    yield Wire(f"board {RAIL}", f"{driver} VCC", "supply", part.name, logic)
    yield Wire(f"board {GROUND}", f"{driver} GND", "ground", part.name, 0.0)
    for field, terminal in (("tx", "DI"), ("rx", "RO"), ("enable", "DE and RE")):
        if field in places:
            yield Wire(places[field], f"{driver} {terminal}", "serial", part.name, logic)
    for line in ("A", "B"):
        yield Wire(
            f"{driver} {line}",
            f"{part.name} {line} at the far end",
            "serial",
            part.name,
            logic,
            note="one twisted pair",
        )
    yield Wire(f"{driver} GND", f"{part.name} ground at the far end", "ground", part.name, 0.0)
    yield Wire(
        f"{driver} A",
        f"{driver} B",
        "signal",
        part.name,
        logic,
        f"{ohms(TERMINATION)} resistor",
        "termination, and another at the far end",
    )
    yield Wire(
        f"{driver} A",
        f"board {RAIL}",
        "signal",
        part.name,
        logic,
        f"{ohms(BIAS)} resistor",
        "bias, once a line",
    )
    yield Wire(
        f"{driver} B",
        f"board {GROUND}",
        "signal",
        part.name,
        logic,
        f"{ohms(BIAS)} resistor",
        "bias, once a line",
    )


def rs485_items(part: Part) -> Iterator[tuple[str, str]]:
    """What an RS-485 line wants bought."""
    yield "RS-485 driver", "for 3.3 V"
    yield from (("resistor", ohms(ohm)) for ohm in (TERMINATION, TERMINATION, BIAS, BIAS))
