"""current-supply: what hangs on a rail draws more than what feeds it gives."""

from collections.abc import Iterator

from zapato.budgets.rails import Rail, feeder, rails
from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding, Severity
from zapato.lang.source import Keys
from zapato.lang.units import digits
from zapato.parts.electrical import INPUT, RAIL

SHORT = 1.5
"""A USB port that nobody measured bears a radio's short peaks, most of the time: so many times its 500 mA are told of."""


def _find(design: Design) -> Iterator[Finding]:
    for rail in rails(design):
        if rail.gives is None or rail.peak <= rail.gives:
            continue
        guessed = rail.name == INPUT and not rail.stated
        if guessed and rail.typical <= rail.gives and rail.peak <= SHORT * rail.gives:
            continue
        severity: Severity = (
            "error" if rail.typical > rail.gives and (rail.stated or rail.name == RAIL) else "warning"
        )
        most = sorted(rail.loads, key=lambda row: -row[1].peak)[:4]
        draws = ", ".join(f"{name} {_amps(load.peak)} ({load.source})" for name, load in most)
        yield design.finding(
            "current-supply",
            severity,
            _place(design, rail),
            f"{_named(rail)} draws {_amps(rail.peak)} at the peak, {_amps(rail.typical)} as a rule, and {_feeder(rail)} gives {_amps(rail.gives)}",
            why=f"most of it: {draws}; what feeds it: {rail.source}.",
            fixes=(
                'a [supply.name] with enough current, and fed_from = "name" at the part that draws most',
                *(
                    (
                        "a [supply.name] with board = true and its current, where the board does not hang on USB",
                    )
                    if rail.name == INPUT and not rail.stated
                    else ()
                ),
                "a lower `limit`, where it is a strip",
            ),
            of="value" if rail.stated else "key",
        )


def _place(design: Design, rail: Rail) -> Keys:
    main = feeder(design)
    if rail.name in design.parts:
        return ("supply", rail.name, "current")
    if rail.name == INPUT and main:
        return ("supply", main.name, "current")
    first = max(rail.loads, key=lambda row: row[1].peak)[0]
    return design.parts[first].path if first in design.parts else ("device",)


def _named(rail: Rail) -> str:
    return {RAIL: "what hangs on the board's 3.3 V", INPUT: "the board with all that hangs on its input"}.get(
        rail.name, f"what hangs on supply.{rail.name}"
    )


def _feeder(rail: Rail) -> str:
    if rail.name == RAIL:
        return "its regulator"
    return "a USB port" if rail.name == INPUT and not rail.stated else "the supply"


def _amps(amps: float) -> str:
    return f"{digits(amps, 2)} A" if amps >= 1 else f"{digits(amps * 1000)} mA"


_STRIP = '[strip.rack]\nchip = "ws2812b"\npin = 13\ncount = 300\nlevel = "5V"\n'

RULE = DesignRule(
    code="current-supply",
    family="electrical",
    severities=("error", "warning"),
    title="a supply gives less than what hangs on it draws",
    story="""
When a supply is asked for more than it gives its voltage falls, and a chip with a radio is the first to notice: it restarts, often
just when it sends. A strip at full white takes 60 mA an LED, a radio some 300 mA for milliseconds, a coil 70.

What feeds the board is a USB port (500 mA), or a `[supply.name]` with `board = true`. Where the device file says what a supply gives
and even the usual draw is more, it is an error; where only the peak is, or where nobody said, a warning. `zapato budget` shows every
current with its source.
""",
    failing=device(_STRIP + 'fed_from = "3V3"'),
    mended=device(
        '[supply.strip]\nvoltage = "5V"\ncurrent = "20A"\n'
        + _STRIP
        + 'fed_from = "strip"\nlimit = 3\nlength = "5m"'
    ),
    find=_find,
)
