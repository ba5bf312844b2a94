"""volt-analog: the sensor's voltage does not fit the analog input."""

from collections.abc import Iterator

from zapato.boards.board import Board
from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design, PinUse
from zapato.findings import Finding
from zapato.lang.units import digits
from zapato.parts.kind import Part
from zapato.parts.sensors import puts_out

_SERIES = (1.0, 1.2, 1.5, 1.8, 2.2, 2.7, 3.3, 3.9, 4.7, 5.6, 6.8, 8.2)
"""Resistor values of the E12 series (IEC 60063)."""


def _find(design: Design) -> Iterator[Finding]:
    for use in design.uses:
        span = puts_out(use.part) if use.need.use == "analog" and use.part.has_role("sensor") else None
        if span and design.board and use.pin.gpio >= 0:
            yield from _judge(design, design.board, use, span)
        elif span:
            yield from _offered(design, use, span)


def _ratio(part: Part) -> float:
    from zapato.parts.sensors.analog.chip import ratio

    return ratio(part)


def _judge(design: Design, board: Board, use: PinUse, span: tuple[float, float]) -> Iterator[Finding]:
    low, high = span
    at_pin = high / _ratio(use.part)
    most, top, name = board.chip.input_most, board.analog.high, design.called(use.pin)
    divided = board.analog is not board.chip.analog
    if low < 0 or (at_pin > most and not divided) or (divided and at_pin > top * 1.1):
        message = f"{use.part.id} puts up to {digits(at_pin)} V on {name}, which bears {top if divided else most:g} V"
        levels = board.analog.source if divided else board.chip.sources.get("levels", board.analog.source)
        why = f"what an input does not bear flows into the chip's protection and destroys it ({levels})."
        severity = "error"
    elif at_pin > top:
        message = f"{use.part.id} reaches {digits(at_pin)} V at {name}, and everything above {top:g} V reads the same"
        why, severity = f"{board.analog.source}.", "warning"
    else:
        return
    yield design.finding(
        "volt-analog",
        severity,
        (*use.part.path, "range"),
        message,
        why=why,
        fixes=(_divider(high, board.analog.aim),),
        pin=use.pin,
    )


def _offered(design: Design, use: PinUse, span: tuple[float, float]) -> Iterator[Finding]:
    """An input of a converter chip bears its own supply and a little."""
    low, high = span
    at_pin = high / _ratio(use.part)
    if use.pin.bears and (at_pin > use.pin.bears or low < 0):
        yield design.finding(
            "volt-analog",
            "error",
            (*use.part.path, "range"),
            f"{use.part.id} puts up to {digits(at_pin)} V on {use.pin.name}, which bears {use.pin.bears:g} V",
            why=f"the converter's inputs bear its supply and a little more ({use.pin.source}).",
            fixes=(_divider(high, use.pin.bears - 0.3),),
            pin=use.pin,
        )


def _divider(high: float, top: float) -> str:
    """The E12 divider around 10 kohm that brings `high` volts to just under `top`."""
    lower = 10_000.0
    wanted = lower * (high / top - 1)
    decades = [value * 10**power for power in range(2, 7) for value in _SERIES]
    upper = next((value for value in decades if value >= wanted), decades[-1])
    return f'a divider: divider = ["{upper / 1000:g}kohm", "10kohm"], {digits(high * lower / (upper + lower))} V at the pin'


RULE = DesignRule(
    code="volt-analog",
    family="electrical",
    severities=("error", "warning"),
    title="the sensor's voltage does not fit the analog input",
    story="""
An analog input measures from 0 V to a little under the chip's supply, and bears hardly more. A
sensor with 0 to 5 V or 0 to 10 V needs a divider of two resistors: the finding computes one. Above
what the pin measures but below what it bears, readings stand still at the top: a warning.
""",
    failing=device('[sensor.tank]\nchip = "analog"\npin = 34\nrange = "0V-5V"'),
    mended=device(
        '[sensor.tank]\nchip = "analog"\npin = 34\nrange = "0V-5V"\ndivider = ["8.2kohm", "10kohm"]'
    ),
    find=_find,
)
