"""Analog inputs: what one count of the converter is worth at the sensor, and how far off it can be."""

from __future__ import annotations

from collections.abc import Iterator

from zapato.budgets.eseries import above
from zapato.budgets.row import BudgetRow, row
from zapato.design.design import Design, once
from zapato.parts.kind import Part
from zapato.parts.sensors import chip, puts_out
from zapato.parts.sensors.analog.chip import ratio
from zapato.record import record

TOLERANCE = 0.01
"""Of a usual metal film resistor."""
LOWER = 10_000.0
"""ohm of the lower resistor of a divider that is to be chosen."""


LOST = 0.02
"""The share of its range that may be lost in what is in series: as much as two resistors of TOLERANCE can be off."""


@record(frozen=True)
class Loss:
    """What one analog input reads wrong for what its sensor has in series.

    Attributes:
        part: which.
        ohm: in series, as the pin sees it.
        leak: A into the pin.
        loads: ohm of the board's own divider, 0 without.
        share: of its range at the most.
        source: where the figures are from.
    """

    part: Part
    ohm: float
    leak: float
    loads: float
    share: float
    source: str


@record(frozen=True)
class AnalogBudget:
    """One analog sensor on a pin of the chip.

    Attributes:
        part: which.
        most: V at the sensor that the pin can measure.
        wanted: V that the sensor puts out, or None.
        step: V at the sensor for one count.
        error: V at full scale, by the divider's tolerance, one count and the converter's own error.
        divider: (upper, lower) in ohm that brings the sensor's range into the pin's, where it does not fit.
    """

    part: Part
    most: float
    wanted: float | None
    step: float
    error: float
    divider: tuple[float, float] | None


@once
def analog(design: Design) -> list[AnalogBudget]:
    """Every analog sensor on a pin of the chip."""
    board = design.board
    if board is None:
        return []
    budgets: list[AnalogBudget] = []
    for part in design.with_role("sensor"):
        if "divider" not in part.shape.by_name or "pin" not in part.pins or part.pins["pin"].gpio < 0:
            continue
        by = ratio(part)
        most, step = board.analog.high * by, board.analog.high * by / 2**board.analog.bits
        span = puts_out(part)
        wanted = span[1] if span else None
        error = 2 * TOLERANCE * (1 - 1 / by) * most + step + board.analog.off * by
        fits = wanted is None or wanted <= most
        budgets.append(
            AnalogBudget(
                part, most, wanted, step, error, None if fits else divider(wanted or 0, board.analog.aim)
            )
        )
    return budgets


@once
def losses(design: Design) -> list[Loss]:
    """Every analog input of the chip whose sensor has something in series."""
    losses: list[Loss] = []
    for use in design.uses:
        name = use.part.values.get("chip")
        if (
            design.board is None
            or not use.part.has_role("sensor")
            or use.need.use != "analog"
            or use.pin.gpio < 0
        ):
            continue
        if name and (ohm := chip(str(name)).source_ohm(use.part)):
            at = design.board.analog
            drawn = ohm / (ohm + at.loads) if at.loads else 0.0
            losses.append(Loss(use.part, ohm, at.leak, at.loads, drawn + at.leak * ohm / at.high, at.source))
    return losses


def divider(volts: float, most: float) -> tuple[float, float]:
    """Resistors (upper, lower), ohm of E24, that bring `volts` to no more than `most`."""
    return above(LOWER * (volts / most - 1)), LOWER


def rows(design: Design) -> Iterator[BudgetRow]:
    """The figures of every analog sensor."""
    for budget in analog(design):
        name, source = budget.part.name, design.board.analog.source if design.board else ""
        if budget.wanted is not None:
            yield row(
                "analog",
                name,
                "its range",
                budget.wanted,
                "V",
                budget.most,
                formula="range of the pin x divider",
                source=source,
            )
        yield row(
            "analog", name, "one count", budget.step, "V", formula="range / 2^bits x divider", source=source
        )
        yield row(
            "analog",
            name,
            "off by at full scale",
            budget.error,
            "V",
            formula="2 x 1 % x (1 - 1 / divider) x range + one count + the converter's own x divider",
            source="resistors of 1 %",
        )
    for loss in losses(design):
        yield row(
            "analog",
            loss.part.name,
            "lost in what is in series",
            loss.share,
            "/",
            LOST,
            formula="R / (R + the board's divider) + leakage x R / range",
            source=loss.source,
        )
