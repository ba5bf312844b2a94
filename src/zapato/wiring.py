"""What is wired to what: every wire with its two ends, what stands in it, what to buy for it, and the board pin by pin."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Literal

from zapato.boards.model import Board, HeaderPin
from zapato.budgets.analog import analog
from zapato.budgets.rails import feeder
from zapato.budgets.strips import strips
from zapato.design.model import Design
from zapato.parts.electrical import PIN, RAIL, ohms
from zapato.parts.model import Part

if TYPE_CHECKING:
    import pandas as pd

Kind = Literal["signal", "3V3", "5V", "12V", "ground", "mains", "serial"]
MAINS = 50.0
"""V from which on a contact is kept apart from all that carries low voltage (IEC 61140, extra-low voltage: up to 50 V AC)."""
GROUND = "GND"
BUSES = ("i2c", "spi", "onewire", "uart")


@dataclass(frozen=True)
class Wire:
    """One wire.

    Attributes:
        start, end: its ends, as "board 26" and "heater IN".
        kind: what it carries; part: whose it is, or "board".
        through: what stands in it; note: what to mind.
    """

    start: str
    end: str
    kind: Kind
    part: str
    through: str = ""
    note: str = ""


@dataclass(frozen=True)
class Item:
    """Something to buy: what, its value, how many, and for whom."""

    what: str
    value: str
    count: int
    why: str


@dataclass(frozen=True)
class Sheet:
    """The wiring of a device.

    Attributes:
        wires: part by part; items: passive parts and wires to buy.
        steps: the way into the board's loader.
        apart: parts whose contacts carry mains.
    """

    design: Design
    wires: tuple[Wire, ...]
    items: tuple[Item, ...]
    steps: tuple[str, ...]
    apart: tuple[str, ...]

    @property
    def frame(self) -> pd.DataFrame:
        """One row a wire."""
        import pandas

        return pandas.DataFrame([asdict(each) for each in self.wires])


def wiring(design: Design) -> Sheet:
    """The wiring of a design; a part whose pin is not there has no wire for it."""
    board = design.board
    if board is None:
        return Sheet(design, (), (), (), ())
    wires = [*_board(design, board)]
    for part in design.parts.values():
        wires += _part(design, board, part)
    apart = tuple(part.name for part in design.parts.values() if part.kind.apart(part) >= MAINS)
    return Sheet(design, tuple(wires), tuple(_items(design, board)), board.boot_mode, apart)


def place(board: Board, gpio: int) -> str:
    """A pin of the board as its label says."""
    label = board.label_of.get(gpio) or f"GPIO{gpio}"
    return f"board {label}"


def _carries(volts: float) -> Kind:
    return "12V" if volts > 6 else "5V" if volts > 4 else "3V3"


def _board(design: Design, board: Board) -> Iterator[Wire]:
    """What feeds the board, and a serial adapter where it has no USB of its own."""
    main = feeder(design)
    if main:
        volts = main.get("voltage", 5.0)
        yield Wire(
            f"{main.name} +",
            "board supply input",
            _carries(volts),
            "board",
            note=f"{volts:g} V; {board.supply[0] if board.supply else ''}",
        )
        yield Wire(f"{main.name} -", f"board {GROUND}", "ground", "board")
    elif board.supply:
        mains = "mains" in board.supply[0]
        start = "USB port" if any("USB" in each for each in board.supply) else "mains" if mains else "supply"
        low: Kind = "3V3" if "3.3 V" in board.supply[0] and start == "supply" else "5V"
        yield Wire(
            start, "board supply input", "mains" if mains else low, "board", note="; ".join(board.supply)
        )
    for part in design.of_kind("supply"):
        if part is not main:
            yield Wire(f"{part.name} -", f"board {GROUND}", "ground", "board", note="grounds joined")
    if board.usb.startswith("none"):
        tx, rx = (
            next((p for p in board.chip.pins.values() if p.console == line), None) for line in ("tx", "rx")
        )
        if tx and rx:
            yield Wire(
                "adapter TX", place(board, rx.gpio), "serial", "board", note="crossed: TX to RX; 3.3 V levels"
            )
            yield Wire("adapter RX", place(board, tx.gpio), "serial", "board", note="crossed: RX to TX")
            yield Wire("adapter GND", f"board {GROUND}", "ground", "board")
            yield Wire("adapter 3V3", "board 3V3", "3V3", "board", note="never with the mains connected")


def _part(design: Design, board: Board, part: Part) -> Iterator[Wire]:
    """The wires of one part: what feeds it, its signals, its other side, what its contact carries."""
    if part.kind.passive or _on_board(board, part):
        yield from _contact(part)
        return
    yield from _feeds(design, part)
    beside = list(part.kind.beside(part, board.chip.logic))
    for use in (use for use in design.uses if use.part is part):
        need, pin = use.need, use.pin
        named = part.kind.terminals
        terminal = named.get(f"{need.field} {need.active}") or named.get(need.field, need.field.upper())
        start = place(board, pin.gpio) if pin.gpio >= 0 else pin.name.replace(".", " ")
        through = ", ".join(
            f"{x.value} {x.what}" if x.what == "resistor" else x.value
            for x in beside
            if x.field == need.field and ("series" in x.where or "between" in x.where or "wire" in x.where)
        )
        note = _mind(part, need.volts, board)
        yield Wire(
            start,
            f"{part.name} {terminal}",
            "serial" if part.kind.name == "uart" else "signal",
            part.name,
            through,
            note,
        )
        if need.operated and terminal == "one side":
            back = GROUND if need.operated == "low" else RAIL
            yield Wire(
                f"board {back}", f"{part.name} other side", "ground" if back == GROUND else "3V3", part.name
            )
    bus = part.linked.get("bus")
    if bus is not None:
        for line in bus.pins:
            yield Wire(f"{bus.name} {line.upper()}", f"{part.name} {line.upper()}", "signal", part.name)
    yield from _contact(part)


def _feeds(design: Design, part: Part) -> Iterator[Wire]:
    """Plus and ground of a part, from where its current comes."""
    feeds = dict.fromkeys(load.feed for load in part.kind.loads(part) if load.feed and load.feed != PIN)
    for feed in feeds:
        supply = design.parts.get(feed)
        main = feeder(design)
        volts = (
            supply.get("voltage", 5.0)
            if supply
            else 3.3
            if feed == RAIL
            else main.get("voltage", 5.0)
            if main
            else 5.0
        )
        strip = next((each for each in strips(design) if each.part is part), None)
        note = (
            f"{strip.wire:g} mm2; fed at {strip.feeds} place{'s' * (strip.feeds > 1)}"
            if strip and strip.wire
            else ""
        )
        start = (
            f"{feed} +"
            if supply
            else f"board {feed}"
            if feed == RAIL or _gives_input(design)
            else "5 V supply"
        )
        yield Wire(start, f"{part.name} +", _carries(volts), part.name, note=note)
        yield Wire(f"{feed} -" if supply else f"board {GROUND}", f"{part.name} -", "ground", part.name)

    if not feeds and part.kind.name == "led":
        other = GROUND if part.get("active", "high") == "high" else RAIL
        yield Wire(
            f"board {other}",
            f"{part.name} short leg" if other == GROUND else f"{part.name} long leg",
            "ground" if other == GROUND else "3V3",
            part.name,
        )


def _gives_input(design: Design) -> bool:
    """Whether what feeds the board comes out at one of its pins."""
    rows = design.board.headers.values() if design.board else ()
    return any(place.label.upper() in ("5V", "VIN", "VBUS", "VSYS") for row in rows for place in row)


def _contact(part: Part) -> Iterator[Wire]:
    volts = part.kind.apart(part)
    if volts:
        mains = volts >= MAINS
        note = "apart from all low voltage, enclosed" if mains else ""
        yield Wire(f"{volts:g} V", f"{part.name} contact", "mains" if mains else "12V", part.name, note=note)


def _on_board(board: Board, part: Part) -> bool:
    """True for a part that is soldered to the board: it needs no wire."""
    on = [board.fitted_on.get(pin.gpio) for pin in part.pins.values()]
    return bool(on) and all(each is not None and each.is_for(part.kind.name) for each in on)


def _mind(part: Part, volts: float, board: Board) -> str:
    most = board.chip.input_most
    if volts > most:
        return f"{volts:g} V: behind a level shifter or divider, the pin bears {most:g} V"
    return ""


def _items(design: Design, board: Board) -> Iterator[Item]:
    """Passive parts, each value once, with how many and for whom; wires of strips; dividers that are missing."""
    found: dict[tuple[str, str], list[str]] = {}
    for part in design.parts.values():
        if _on_board(board, part):
            continue
        for each in part.kind.beside(part, board.chip.logic):
            found.setdefault((each.what, each.value), []).append(part.name)
    for budget in analog(design):
        for ohm in budget.divider or ():
            found.setdefault(("resistor", ohms(ohm)), []).append(f"{budget.part.name} (divider)")
    for strip in strips(design):
        if strip.wire:
            found.setdefault(("wire, two cores", f"{strip.wire:g} mm2"), []).append(strip.part.name)
    for (what, value), names in sorted(found.items()):
        yield Item(what, value, len(names), ", ".join(dict.fromkeys(names)))


State = Literal["used", "free", "mind", "forbidden", "supply"]


@dataclass(frozen=True)
class PinRow:
    """One place of a header.

    Attributes:
        side: of which header; label: printed beside it; gpio: the chip's number, or None.
        state: used, free, free with something to mind, forbidden, or supply and ground.
        use: the parts that stand there; can: what the pin can do; note: what to mind.
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
