"""analog-source: what the sensor has in series falsifies what the analog input reads."""

from __future__ import annotations

from collections.abc import Iterator
from math import floor, log10
from typing import TYPE_CHECKING

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding
from zapato.parts.electrical import ohms

if TYPE_CHECKING:
    from zapato.budgets.analog import Loss


def _find(design: Design) -> Iterator[Finding]:
    if not any(use.need.use == "analog" for use in design.uses):
        return
    from zapato.budgets.analog import LOST, losses

    for loss in losses(design):
        if loss.share > LOST:
            pin = loss.part.pins["pin"]
            yield design.finding(
                "analog-source",
                "warning",
                loss.part.path,
                f"{loss.part.id} reads up to {loss.share:.1%} of its range wrong: {_rounded(loss.ohm)} lie before {design.called(pin)}",
                why=f"{_taken(loss)}, and that current flows through the series resistance.",
                fixes=_fixes(loss),
                pin=pin,
                of="key",
            )


def _taken(loss: Loss) -> str:
    if loss.loads:
        return f"the board's own divider takes its current from there ({ohms(loss.loads)})"
    return f"the input takes up to {loss.leak * 1e9:g} nA ({loss.source})"


def _fixes(loss: Loss) -> Iterator[str]:
    from zapato.budgets.analog import LOST

    less = LOST / loss.share
    divider: tuple[float, ...] = loss.part.get("divider", ())
    if divider:
        yield f"a divider of no more than {' and '.join(_rounded(ohm * less) for ohm in divider)}"
    else:
        yield f"no more than {_rounded(loss.ohm * less)} in series"
    yield "an amplifier that follows the voltage, between sensor and pin"


def _rounded(ohm: float) -> str:
    """Down to two digits."""
    if not ohm:
        return ohms(0)
    digit = 10 ** (floor(log10(ohm)) - 1)
    return ohms(floor(ohm / digit) * digit)


RULE = DesignRule(
    code="analog-source",
    family="electrical",
    severities=("warning",),
    title="the series resistance of the sensor falsifies the reading",
    story="""
An analog input takes a small current: its own leakage, or what a divider on the board passes to ground. Through resistors in series with
the sensor that current is a voltage, and the reading is off by it. Dividers of 10 kohm are usual; megohms save current and read wrong.
`zapato budget` shows the share for each sensor; from 2 % on it is told, as much as resistors of 1 % can make.
""",
    failing=device('[sensor.volts]\nchip = "analog"\npin = 34\ndivider = ["4.7Mohm", "2.2Mohm"]'),
    mended=device('[sensor.volts]\nchip = "analog"\npin = 34\ndivider = ["47kohm", "22kohm"]'),
    find=_find,
)
