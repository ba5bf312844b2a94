"""volt-logic: a part puts a higher level on the pin than the chip bears."""

from collections.abc import Iterator

from zapato.checks.rule import Incompatibility, PinRule, device
from zapato.design.design import Design, PinUse
from zapato.design.feeds import is_data_line, lifted, part_is_compatible, part_span, wanted_high
from zapato.findings import Finding
from zapato.lang.units import digits


def _incompatibility(use: PinUse, design: Design) -> Incompatibility | None:
    if design.board is None:
        return None
    chip = design.board.chip
    if not use.need.volts:
        volts = lifted(design, use.part) if is_data_line(use) else 0.0
        return (
            _lifted_incompatibility(use, design, volts)
            if volts > (use.pin.bears or chip.input_most)
            else None
        )
    most = use.pin.bears or chip.input_most
    if use.pin.gpio >= 0 and use.need.volts < chip.input_high:
        message = f"{use.part.id} puts {use.need.volts:g} V on {design.called(use.pin)}, which reads high from {chip.input_high:g} V on"
        why = "a level below the threshold reads low, or now this and now that"
        return Incompatibility(
            "error", message, why, chip.sources.get("levels", ""), ("a level shifter between them",)
        )
    if use.need.volts <= most:
        return None
    message = f"{use.part.id} puts {use.need.volts:g} V on {design.called(use.pin)}, which bears {most:g} V"
    source = use.pin.source if use.pin.bears else chip.sources.get("levels", "")
    why = "a level above the supply flows through the pin's protection into it"
    if use.need.use == "line":  # both ends drive it: no divider
        fixes = (
            "its pull-ups to 3.3 V in place of that",
            "a level shifter that works both ways, for every line of it; then without `level`",
        )
    else:
        divider = f"a divider: 10 kohm in series, {_lower(use.need.volts, most)} kohm to ground"
        fixes = ("a level shifter between them", divider)
    return Incompatibility("error", message, why, source, fixes)


def _lifted_incompatibility(use: PinUse, design: Design, volts: float) -> Incompatibility:
    board = design.board
    assert board
    most = use.pin.bears or board.chip.input_most
    divided = any(
        passive.field == use.need.field for passive in use.part.kind.beside(use.part, board.chip.logic)
    )
    fixes = [
        'fed_from = "3V3", where the part works with that',
        'level = "3.2V", behind the divider that the wiring sheet draws'
        if divided
        else 'level = "3.3V", where the line\'s pull-up goes to 3.3 V',
        "shifted = true, with a level shifter between them",
    ]
    return Incompatibility(
        "error",
        f"{use.part.id} runs on {volts:g} V and puts them on {design.called(use.pin)}, which bears {most:g} V",
        "the high level of this part's data line is its own supply",
        use.pin.source if use.pin.bears else board.chip.sources.get("levels", ""),
        tuple(fixes),
    )


def _find(design: Design) -> Iterator[Finding]:
    """Chips whose supply is so high that the board's high level is none for them."""
    board = design.board
    if board is None:
        return
    for part in design.parts.values():
        takes, span = part.kind.supplied(part), part_span(design, part)
        needed = wanted_high(design, part)
        if (
            takes is None
            or span is None
            or needed <= board.chip.logic + 0.01
            or part_is_compatible(design, part) is False
        ):
            continue
        yield design.finding(
            "volt-logic",
            "error",
            (*part.path, "fed_from") if part.values.get("fed_from") else part.path,
            f"{part.id} runs on {span[1]:g} V and reads high from {digits(needed)} V on; the board's lines are {board.chip.logic:g} V",
            why=f"its inputs read high from {takes.reads_high:g} of its supply ({takes.source}); pull-ups that go to its supply would lift the board's pins beyond {board.chip.input_most:g} V.",
            fixes=('fed_from = "3V3"', "shifted = true, with a level shifter for the bus between them"),
            of="value" if part.values.get("fed_from") else "key",
        )


def _lower(volts: float, most: float) -> str:
    """The lower resistor, in kohm, that brings `volts` to 3.3 V behind 10 kohm, rounded down to E12 steps."""
    wanted = 10 * 3.3 / (volts - 3.3)
    steps = (1.0, 1.2, 1.5, 1.8, 2.2, 2.7, 3.3, 3.9, 4.7, 5.6, 6.8, 8.2, 10, 12, 15, 18, 22, 27, 33, 39, 47)
    return f"{max((s for s in steps if s <= wanted), default=steps[0]):g}"


RULE = PinRule(
    code="volt-logic",
    family="electrical",
    severities=("error",),
    title="the part's level is higher than the chip bears",
    story="""
The chips of the catalogue run at 3.3 V and bear about 3.6 V at their pins. A motion sensor with a
5 V output, the TX of a 5 V meter or a 12 V contact line needs a level shifter, a divider or an
optocoupler in between; a 1.8 V part needs a shifter, too, since its high is no high to the chip. State the part's high level with `level`, and it is checked.

A chip that runs on 5 V wants more than 3.3 V for a high level: an MCP23017 4.0 V (0.8 of its supply), a PCF8574 or an ADS1115 3.5 V. It
may work on the bench and fail in the cold. And a line whose high level is the part's own supply (the echo of a distance sensor, a
DHT's data line) brings that supply to the pin. `fed_from` tells what each part runs on; `shifted = true` says that a level shifter is there.
""",
    failing=device('[motion.path]\npin = 27\nlevel = "5V"'),
    mended=device('[motion.path]\npin = 27\nlevel = "3.3V"'),
    judge=_incompatibility,
    find=_find,
)
