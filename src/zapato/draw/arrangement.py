"""Where everything of a wiring sheet lies: the board in the middle, parts at the side of their pins."""

from __future__ import annotations

from dataclasses import field

from zapato.design import Design
from zapato.record import record
from zapato.wiring import PinRow, Sheet, Wire, pin_rows

SAME = 3
"""Equal parts from which on they share one box."""


@record
class BoxLine:
    """One row of a box: a terminal.

    Attributes:
        name: of the terminal, with the part's name where several share the box.
        other: where it leads to, in words.
        wire: what leads there.
        pin: column and place of the board's pin to which a line is drawn; None where none is.
    """

    name: str
    other: str
    wire: Wire
    pin: tuple[int, int] | None = None


@record
class Box:
    """A part, or several equal ones."""

    title: str
    lines: list[BoxLine] = field(default_factory=list[BoxLine])
    apart: bool = False

    @property
    def first(self) -> float:
        """The middle of its pins, by which boxes are put in order; those without come last."""
        at = [line.pin[1] for line in self.lines if line.pin]
        return sum(at) / len(at) if at else 1e9


@record(frozen=True)
class Arrangement:
    """The arrangement.

    Attributes:
        columns: the board's pins, left and right, in the order of the board.
        left, right: the boxes at each side, from the top.
        supplies: wires of what feeds everything.
        fitted: label -> what is soldered there, as a part of the device.
        used: labels that a wire leads to.
    """

    columns: tuple[list[PinRow], list[PinRow]]
    left: list[Box]
    right: list[Box]
    supplies: list[Wire]
    fitted: dict[str, str]
    used: frozenset[str]


def columns_of(rows: list[PinRow]) -> tuple[list[PinRow], list[PinRow]]:
    """Two columns: the board's own left and right, or its headers shared out evenly."""
    sides = list(dict.fromkeys(row.side for row in rows))
    if len(sides) == 1:
        half = -(-len(rows) // 2)
        return rows[:half], rows[half:]
    first = [row for row in rows if row.side == sides[0]]
    return first, [row for row in rows if row.side != sides[0]]


def arrange(design: Design, sheet: Sheet) -> Arrangement:
    """The sheet's wires as boxes beside the board."""
    columns = columns_of(pin_rows(design))
    place = {row.label: (side, at) for side, column in enumerate(columns) for at, row in enumerate(column)}
    by_part: dict[str, list[Wire]] = {}
    supplies: list[Wire] = []
    fitted: dict[str, str] = {}
    for wire in sheet.wires:
        part = design.parts.get(wire.part)
        if wire.kind == "fitted":
            fitted[wire.start.removeprefix("board ")] = f"{wire.end}: {wire.note}"
        elif part is None or part.kind.passive:
            supplies.append(wire)
        else:
            by_part.setdefault(wire.part, []).append(wire)
    sides: tuple[list[Box], list[Box]] = ([], [])
    for names in _alike(design, by_part):
        names.sort(
            key=lambda name: min(
                (place[_pin(w)][::-1] for w in by_part[name] if _drawn(w, place)), default=(0, 0)
            )
        )
        box = _box(design, names, by_part, place)
        at = [place[_pin(w)][0] for n in names for w in by_part[n] if _drawn(w, place)]
        lighter = int(_rows(sides[1]) < _rows(sides[0]))
        sides[round(sum(at) / len(at)) if at else lighter].append(box)
    _even(*sides)
    for side in sides:
        side.sort(key=lambda wire_row: wire_row.first)
    for box in (*sides[0], *sides[1]):
        box.apart = box.apart or any(line.wire.kind == "mains" for line in box.lines)
    ends = {
        end.removeprefix("board ")
        for wire in sheet.wires
        for end in (wire.start, wire.end)
        if end.startswith("board ")
    }
    return Arrangement(columns, sides[0], sides[1], supplies, fitted, frozenset(ends))


def _rows(boxes: list[Box]) -> int:
    return sum(len(box.lines) + 2 for box in boxes)


def _even(left: list[Box], right: list[Box]) -> None:
    """Boxes without a line to a pin go where there is room."""
    for one, other in ((left, right), (right, left)):
        for box in [wire_row for wire_row in one if wire_row.first > 1e8]:
            if _rows(one) - _rows(other) > len(box.lines) + 2:
                one.remove(box)
                other.append(box)


def _drawn(wire: Wire, place: dict[str, tuple[int, int]]) -> bool:
    """Whether a line to a pin of the board is drawn for it: those of signals are; rails, and resistors to them, are named."""
    lead = wire.kind in ("signal", "serial") and wire.start.startswith("board ")
    return lead and not wire.end.startswith("board ") and wire.start.removeprefix("board ") in place


def _pin(wire: Wire) -> str:
    return wire.start.removeprefix("board ")


def _alike(design: Design, by_part: dict[str, list[Wire]]) -> list[list[str]]:
    """Names of parts, equal ones together where there are several."""
    groups: dict[object, list[str]] = {}
    for name, wires in by_part.items():
        key = (design.parts[name].kind.name, *(_form(name, wire) for wire in wires))
        groups.setdefault(key, []).append(name)
    alike: list[list[str]] = []
    for names in groups.values():
        alike += [names] if len(names) >= SAME else [[name] for name in names]
    return alike


def _form(name: str, wire: Wire) -> tuple[object, ...]:
    """What makes two wires of two parts equal."""
    start = "pin" if wire.kind in ("signal", "serial") else wire.start
    return (start, wire.end.removeprefix(name), wire.kind, wire.volts, wire.through)


def _box(
    design: Design, names: list[str], by_part: dict[str, list[Wire]], place: dict[str, tuple[int, int]]
) -> Box:
    several = len(names) > 1
    part = design.parts[names[0]]
    box = Box(f"{len(names)} x {part.kind.name}" if several else names[0])
    drawn: set[tuple[str, str]] = set()
    for name in names:
        for wire in by_part[name]:
            terminal, other = _ends(name, wire)
            at = place[wire.start.removeprefix("board ")] if _drawn(wire, place) else None
            if several and wire.kind in ("supply", "ground"):
                if (terminal, other) in drawn:
                    continue
                drawn.add((terminal, other))
                terminal = f"each {terminal}"
            elif several:
                terminal = f"{name} {terminal}"
            box.lines.append(BoxLine(terminal, other, wire, at))
    return box


def _ends(name: str, wire: Wire) -> tuple[str, str]:
    """The terminal, and where it leads."""
    start, end = (end.removeprefix(f"{name} ").removeprefix("board ") for end in (wire.start, wire.end))
    return (end, start) if wire.end.startswith(f"{name} ") else (start, end)
