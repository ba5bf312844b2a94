"""volt-supply: a supply's voltage does not suit what hangs on it."""

from __future__ import annotations

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.design.feeds import board_input, feed_span, main_supply, part_feed, part_span, supply_span
from zapato.findings import Finding
from zapato.lang.fields import nearest
from zapato.parts.electrical import INPUT, OWN, RAIL, Supplied
from zapato.parts.kind import Part

LOW = 6.0
"""V up to which breakouts have a regulator of their own."""


def _find(design: Design) -> Iterator[Finding]:
    if design.board is None:
        return
    yield from _board(design)
    for part in design.with_role("supply"):
        yield from _converter(design, part)
    for part in design.parts.values():
        takes = part.kind.supplied(part)
        if takes is not None:
            yield from _part(design, part, takes)


def _board(design: Design) -> Iterator[Finding]:
    """What feeds the board against its inputs."""
    board = design.board
    assert board
    feeding = [part for part in design.with_role("supply") if part.get("board", False)]
    for other in feeding[1:]:
        yield design.finding(
            "volt-supply",
            "error",
            (*other.path, "board"),
            f"{other.id} and {feeding[0].id} both feed the board: the one with the higher voltage drives current into the other",
            fixes=(
                f"board = true at one of them; where the other hands over, a converter or a diode between, and it feeds {feeding[0].id}",
            ),
        )
    main = main_supply(design)
    if main is None or not board.inputs:
        return
    low, high = supply_span(main)
    into = board_input(design, main)
    named = main.get("input", "")
    if named and into is None:
        names = [supply_input.name for supply_input in board.inputs]
        yield design.finding(
            "volt-supply", "error", (*main.path, "input"), f"{board.id} has no input {named}",
            fixes=nearest(named, names) or (f"its inputs: {'; '.join(supply_input.description for supply_input in board.inputs)}",),
        )  # fmt: skip
        return
    if into is not None and into.takes(low, high):
        return
    inputs = (
        [into]
        if into
        else [supply_input for supply_input in board.inputs if supply_input.name != "USB"]
        or list(board.inputs)
    )
    ranges = " or ".join(
        f"{supply_input.name} takes {supply_input.low:g} V to {supply_input.high:g} V"
        for supply_input in inputs
    )
    empty = low < high and not any(supply_input.high < high for supply_input in inputs[:1])
    yield design.finding(
        "volt-supply",
        "warning" if empty else "error",
        (*main.path, "voltage"),
        f"{main.id} gives {_volts(low, high)}, and {board.id} cannot be fed with that: {ranges}",
        why="; ".join(dict.fromkeys(supply_input.source for supply_input in inputs if supply_input.source)),
        fixes=(
            _converted(
                main, inputs[0].low, inputs[0].high, f"board = true; and no board = true at {main.name}"
            ),
        ),
    )


def _converter(design: Design, supply: Part) -> Iterator[Finding]:
    """A converter's other side must be there."""
    source = supply.get("from", "")
    others = [part.name for part in design.with_role("supply") if part is not supply]
    if source and source not in others:
        yield design.finding(
            "volt-supply", "error", (*supply.path, "from"), f'{supply.id} converts from "{source}", and there is no such supply',
            fixes=nearest(source, others) or (f"supplies: {', '.join(others) or 'none'}",),
        )  # fmt: skip
    elif _converts_from_itself(design, supply):
        yield design.finding(
            "volt-supply",
            "error",
            (*supply.path, "from"),
            f"{supply.id} converts from {source}, which gets its power from {supply.id} in the end",
            fixes=("the brick, battery or socket that the power really comes from",),
        )


def _converts_from_itself(design: Design, supply: Part) -> bool:
    seen: set[str] = set()
    at: Part | None = supply
    while at is not None and at.name not in seen:
        seen.add(at.name)
        at = design.parts.get(at.get("from", ""))
    return at is supply


def _part(design: Design, part: Part, takes: Supplied) -> Iterator[Finding]:
    """A part against what it hangs on."""
    feed, span = part_feed(part), part_span(design, part)
    if span is None:
        if feed == INPUT and part.values.get("fed_from"):
            yield design.finding(
                "volt-supply",
                "error",
                (*part.path, "fed_from"),
                f"{part.id} hangs on 5 V, and nothing gives 5 V here",
                why=f"{design.board.id if design.board else ''} has no pin with 5 V on it.",
                fixes=('[supply.name] with voltage = "5V", and fed_from = "name"',),
            )
        return
    low, high = span
    runs = part.values.get("supply")
    if runs and not takes.low <= runs <= takes.high:
        yield design.finding(
            "volt-supply", "error", (*part.path, "supply"),
            f"{part.id} is to run on {runs:g} V, and {takes.what} takes {takes.low:g} V to {takes.high:g} V",
            why=f"{takes.source}." if takes.source != OWN else "",
            fixes=(f"a supply of {takes.low:g} V to {takes.high:g} V", "another chip, if that is what the part really has"),
        )  # fmt: skip
        return
    if (
        runs
        and not part.has_role("strip")
        and feed in (RAIL, INPUT)
        and not low - 0.35 <= runs <= high + 0.35
    ):
        yield design.finding(
            "volt-supply", "error", (*part.path, "supply"),
            f"{part.id} runs on {runs:g} V by its supply, and hangs on {_named(feed)}, which is {_volts(low, high)}",
            fixes=(f'supply = "{low:g}V"', *(other for other in _others(design, part, Supplied("", runs - 0.35, runs + 0.35, "")))),
        )  # fmt: skip
        return
    if low >= takes.low - 0.005 and high <= takes.high + 0.005:
        return
    wrong = "bears no more than" if high > takes.high else "needs at least"
    limit = takes.high if high > takes.high else takes.low
    field = "fed_from" if part.values.get("fed_from") else ""
    yield design.finding(
        "volt-supply",
        "error" if high > takes.high or low == high else "warning",
        (*part.path, field) if field else part.path,
        f"{part.id} hangs on {_named(feed)}, which is {_volts(low, high)}, and {takes.what} {wrong} {limit:g} V",
        why=f"{takes.source}." if takes.source and takes.source != OWN else "",
        fixes=tuple(_others(design, part, takes)),
        of="value" if field else "key",
    )


def _others(design: Design, part: Part, takes: Supplied) -> Iterator[str]:
    """Rails and supplies that suit, else a converter; a module with a regulator says so."""
    feeds = [RAIL, INPUT, *(supply.name for supply in design.with_role("supply"))]
    other_found = False
    for feed in feeds:
        span = feed_span(design, feed)
        if span and takes.low - 0.005 <= span[0] and span[1] <= takes.high + 0.005:
            other_found = True
            yield f'fed_from = "{feed}"'
    if not other_found:
        on = part_feed(part)
        source = design.parts.get(on) or main_supply(design)
        if source is not None:
            yield _converted(source, takes.low, takes.high, "", f'; fed_from = "converter" at {part.name}')
        else:
            yield f"a [supply.name] of {takes.low:g} V to {takes.high:g} V, and its name in fed_from"
    span = part_span(design, part)
    if span and span[1] <= LOW and any(field.name == "module" for field in part.fields):
        yield f'module = "3.3V-{span[1]:g}V", where its module has a regulator of its own and its sheet says so'


def _converted(source: Part, low: float, high: float, board: str, rest: str = "") -> str:
    """A converter that suits, as a table."""
    volts = next((v for v in (5.0, 3.3, 12.0, 24.0) if low <= v <= high), round((low + high) / 2, 1))
    lowest, highest = supply_span(source)
    word = "step-down" if lowest > volts else "step-up" if highest < volts else "step-up and step-down"
    also = f", {board}" if board else ""
    return f'a {word} converter between them: [supply.converter] voltage = "{volts:g}V", from = "{source.name}"{also}{rest}'


def _named(feed: str) -> str:
    return {RAIL: "the board's 3.3 V", INPUT: "the board's 5 V"}.get(feed, f"supply.{feed}")


def _volts(low: float, high: float) -> str:
    return f"{low:g} V" if low == high else f"{low:g} V to {high:g} V"


_SENSOR = '[i2c.main]\nsda = 21\nscl = 22\n[sensor.room]\nchip = "bme280"\nbus = "main"\n'

RULE = DesignRule(
    code="volt-supply",
    family="electrical",
    severities=("error", "warning"),
    title="the voltage of a supply does not suit what hangs on it",
    story="""
Each input of a board takes a range: the 5 V pin some 4.5 V to 5.5 V, the 3.3 V pin 3.0 V to 3.6 V, a terminal what is printed beside
it. A chip takes what its datasheet says: a BME280 3.6 V at the most, an ADS1115 5.5 V. Above that it is destroyed at once; below it
does not start, or works now and then: a battery that is too low at its empty end is a warning.

`voltage` of a `[supply.name]` is compared with the input that it feeds (`board = true`, with `input` where a board has several), and
with every part whose `fed_from` names it. A battery has two ends: `range = "3.0V-4.2V"`, taken from the usual cells where the file says
nothing. A converter is a supply of its own with `from = "name"`: nothing is converted that the file does not say. `zapato boards ID`
lists a board's inputs.

A breakout with a regulator takes more than the chip on it: `module = "3.3V-5.5V"` states that.
""",
    failing=device('[supply.brick]\nvoltage = "12V"\ncurrent = "2A"\n' + _SENSOR + 'fed_from = "brick"'),
    mended=device('[supply.brick]\nvoltage = "12V"\ncurrent = "2A"\n' + _SENSOR + 'fed_from = "3V3"'),
    find=_find,
)
