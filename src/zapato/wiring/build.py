"""The wires of a design, part by part."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping

from zapato.boards.board import Board
from zapato.budgets.strips import strips
from zapato.design.design import Design, PinUse
from zapato.design.feeds import feed_volts, is_data_line, lifted, part_feed, part_is_compatible, wanted_high
from zapato.parts.electrical import INPUT, RAIL, Passive
from zapato.parts.kind import Part
from zapato.wiring.board import board_wires, fed_by
from zapato.wiring.items import items
from zapato.wiring.lines import rs485, shared_lines
from zapato.wiring.sheet import GROUND, MAINS, Sheet, Wire


def wiring(design: Design) -> Sheet:
    """The wiring of a design; a part whose pin is not there has no wire for it, and one that would burn has no supply wire.

    Examples:
        >>> import zapato
        >>> sheet = zapato.wires(zapato.load("devices/boot-dryer.toml"))
        >>> any(wire.end.startswith("heater") for wire in sheet.wires)
        True
    """
    board = design.board
    if board is None:
        return Sheet(design, (), (), (), ())
    left_out: list[str] = []
    wires = [*board_wires(design, board, left_out.append)]
    for part in design.parts.values():
        wires += _part(design, board, part, left_out.append)
    wires += _gates(design, board, left_out.append)
    apart = tuple(part.name for part in design.parts.values() if part.kind.apart(part) >= MAINS)
    return Sheet(design, tuple(wires), tuple(items(design, board)), board.boot_mode, apart, tuple(left_out))


def place(board: Board, gpio: int) -> str:
    """A pin of the board as its label says."""
    return f"board {board.label_of.get(gpio) or f'GPIO{gpio}'}"


def on_board(board: Board, part: Part) -> bool:
    """True for a part that is soldered to the board: it needs no wire."""
    on = [board.fitted_on.get(pin.gpio) for pin in part.pins.values()]
    return bool(on) and all(
        fitted_part is not None and fitted_part.is_for(*part.kind.all_roles) for fitted_part in on
    )


def _part(design: Design, board: Board, part: Part, leave_out: Callable[[str], None]) -> Iterator[Wire]:
    """The wires of one part: what feeds it, its signals, its other side, what its contact carries."""
    if part.kind.passive:
        return
    if on_board(board, part):
        yield from _fitted(board, part)
        yield from _contact(part)
        return
    yield from _feeds(design, part, leave_out)
    if part.has_role("uart"):
        yield from _serial(design, board, part)
    else:
        yield from _signals(design, board, part, leave_out)
    if wanted_high(design, part) > board.chip.logic + 0.01:
        leave_out(f"{part.name} on its bus: it runs on another level than the board (volt-logic)")
    else:
        yield from shared_lines(board, part)
    yield from _contact(part)


def _fitted(board: Board, part: Part) -> Iterator[Wire]:
    for pin in part.pins.values():
        what = board.fitted_on[pin.gpio].what
        yield Wire(place(board, pin.gpio), part.name, "fitted", part.name, board.chip.logic, note=what)


def _feeds(design: Design, part: Part, leave_out: Callable[[str], None]) -> Iterator[Wire]:
    """Plus and ground of a part, from where its current comes."""
    feed = part_feed(part)
    if not feed:
        yield from _led(design, part)
        return
    start, volts = fed_by(design, feed), feed_volts(design, feed)
    places = [f" at place {number}" if number > 1 else "" for number in range(1, part.get("feeds", 1) + 1)]
    strip = next((strip for strip in strips(design) if strip.part is part), None)
    area = strip.wire if strip and strip.wire else _area(part, feed)
    if part_is_compatible(design, part) is False:
        leave_out(f"{part.name} +: {feed} does not suit it (volt-supply)")
    elif start and volts is not None:
        for also in places:
            yield Wire(start, f"{part.name} +{also}", "supply", part.name, volts, area=area)
    else:
        leave_out(f"{part.name} +: nothing in the file says what gives it {feed}")
    minus = f"{feed} -" if feed in design.parts else f"board {GROUND}"
    for also in places:
        yield Wire(minus, f"{part.name} -{also}", "ground", part.name, 0.0, area=area)


def _gates(design: Design, board: Board, leave_out: Callable[[str], None]) -> Iterator[Wire]:
    """What the gates of the level shifters want: 5 V, ground, and their enable inputs to ground."""
    passives = (
        passive for part in design.parts.values() for passive in part.kind.beside(part, board.chip.logic)
    )
    gate = next((passive.value for passive in passives if passive.what == "gate"), "")
    if not gate:
        return
    start, volts = fed_by(design, INPUT), feed_volts(design, INPUT)
    if start and volts is not None and volts <= GATE_MOST:
        yield Wire(start, f"{gate} VCC", "supply", "board", volts, note="100 nF beside it")
    else:
        leave_out(f"{gate} VCC: it wants 5 V, and nothing gives them here")
    yield Wire(f"board {GROUND}", f"{gate} GND, enable inputs, unused inputs", "ground", "board", 0.0)


GATE_MOST = 5.5
"""V at the most (74HCT125 datasheet, Recommended operating conditions)."""
AREAS = ((1.0, 0.25), (3.0, 0.5), (6.0, 0.75), (10.0, 1.5), (16.0, 2.5), (25.0, 4.0))
"""Up to so many A: mm2 of a wire in an enclosure (IEC 60228 sizes; IEC 60364-5-52, with half of what they bear)."""


def _area(part: Part, feed: str) -> float:
    amps = sum(load.peak for load in part.kind.loads(part) if load.feed == feed)
    return next((area for most, area in AREAS if amps <= most), 6.0)


def _led(design: Design, part: Part) -> Iterator[Wire]:
    """The leg of an LED that no pin drives."""
    if not part.has_role("led") or design.board is None:
        return
    if part.get("active", "high") == "high":
        yield Wire(f"board {GROUND}", f"{part.name} short leg", "ground", part.name, 0.0)
    else:
        yield Wire(f"board {RAIL}", f"{part.name} long leg", "supply", part.name, design.board.chip.logic)


def _signals(design: Design, board: Board, part: Part, leave_out: Callable[[str], None]) -> Iterator[Wire]:
    """From pin to terminal, with what stands in each line and from it to a rail."""
    beside = list(part.kind.beside(part, board.chip.logic))
    for use in (use for use in design.uses if use.part is part):
        near = [passive for passive in beside if passive.field == use.need.field]
        if _burns(design, board, use, near):
            leave_out(f"{part.name} {use.need.field}: its level is higher than the pin bears (volt-logic)")
        else:
            yield from _signal(design, board, use, near)
    ends: Mapping[str, str] = part.kind.ends(part) if part.kind.upstream(part) else {}
    for passive in beside:
        if not passive.field and passive.across:
            yield _across(design, board, part, f"{part.name} +", passive)
        elif passive.field in ends and passive.across:
            yield _across(design, board, part, ends[passive.field], passive)


def _burns(design: Design, board: Board, use: PinUse, beside: Iterable[Passive]) -> bool:
    """Whether a line lifts the pin beyond what it bears, with nothing in it that divides."""
    if any(passive.series for passive in beside):
        return False
    volts = use.need.volts or (lifted(design, use.part) if is_data_line(use) else 0.0)
    return volts > (use.pin.bears or board.chip.input_most)


def _signal(design: Design, board: Board, use: PinUse, beside: Iterable[Passive]) -> Iterator[Wire]:
    part, need, pin = use.part, use.need, use.pin
    named = part.kind.terminals
    terminal = named.get(f"{need.field} {need.active}") or named.get(need.field, need.field.upper())
    start = place(board, pin.gpio) if pin.gpio >= 0 else pin.name.replace(".", " ")
    end, volts = f"{part.name} {terminal}", need.volts or board.chip.logic
    most = pin.bears or board.chip.input_most
    series = [passive for passive in beside if passive.series]
    through = ", ".join(_called(passive) for passive in series)
    note = ""
    if volts > most and not series:
        through, note = "level shifter", f"{volts:g} V at {part.name}; the pin bears {most:g} V"
    elif part.get("shifted", False):
        through = "level shifter"
    yield Wire(start, end, "signal", part.name, volts if not note else board.chip.logic, through, note)
    for passive in beside:
        if passive.across:
            yield _across(design, board, part, start, passive)
    if need.operated and terminal == "one side":
        ground = need.operated == "low"
        yield Wire(
            f"board {GROUND if ground else RAIL}", f"{part.name} other side",
            "ground" if ground else "supply", part.name, 0.0 if ground else board.chip.logic,
        )  # fmt: skip


def _across(design: Design, board: Board, part: Part, line: str, passive: Passive) -> Wire:
    """A small part that leads from a line to a rail."""
    to = passive.across
    ground = to == GROUND
    end = f"board {to}" if to in (GROUND, RAIL) else f"{part.name} {to}"
    volts = (
        board.chip.logic
        if to == RAIL or (ground and line.startswith("board"))
        else feed_volts(design, part_feed(part)) or board.chip.logic
    )
    return Wire(
        line,
        end,
        "signal" if passive.what == "resistor" else "supply",
        part.name,
        volts,
        _called(passive),
        passive.why,
    )


def _called(passive: Passive) -> str:
    return passive.value if passive.what == "gate" else f"{passive.value} {passive.what}"


def _serial(design: Design, board: Board, part: Part) -> Iterator[Wire]:
    """A serial link: crossed lines and a ground, or an RS-485 driver with all that it wants."""
    lines = {use.need.field: use.pin for use in design.uses if use.part is part}
    places = {field: place(board, pin.gpio) for field, pin in lines.items()}
    if "enable" in lines or part.get("rs485", False):
        yield from rs485(board, part, places)
        return
    level, logic = part.get("level", 0.0), board.chip.logic
    shift = "level shifter" if level > board.chip.input_most else ""
    for field, terminal in (("tx", "RX"), ("rx", "TX")):
        if field in places:
            note = f"{level:g} V at the other side" if shift else ""
            yield Wire(
                places[field],
                f"{part.name} {terminal} of the other side",
                "serial",
                part.name,
                logic,
                shift,
                note,
            )
    yield Wire(f"board {GROUND}", f"{part.name} GND of the other side", "ground", part.name, 0.0)


def _contact(part: Part) -> Iterator[Wire]:
    volts = part.kind.apart(part)
    if volts:
        mains = volts >= MAINS
        note = "apart from all low voltage, enclosed" if mains else ""
        kind = "mains" if mains else "supply"
        yield Wire(f"{volts:g} V", f"{part.name} contact", kind, part.name, volts, note=note, area=1.5)
