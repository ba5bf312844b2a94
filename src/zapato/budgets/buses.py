"""Buses: I2C pull-ups against capacitance and speed, lengths of serial links."""

from __future__ import annotations

from collections.abc import Iterator

from zapato.budgets.row import BudgetRow, row
from zapato.design.design import Design, once
from zapato.parts.kind import Part
from zapato.parts.segments import upstream
from zapato.record import record

SINK, LOW = 0.003, 0.4
"""A that a chip can sink, and V at which it does (UM10204, I2C-bus specification, table of the I/O stages)."""
RISE = ((100e3, 1000e-9), (400e3, 300e-9), (1e6, 120e-9))
"""Clock rate up to which a line must rise within so many s (UM10204, table of the bus timing)."""
PER_CHIP, PER_METRE = 10e-12, 100e-12
"""F of a chip's pin (UM10204), and of a metre of wire beside its ground."""
BREAKOUT = 10_000.0
"""ohm that a usual breakout carries to its supply."""
SOURCE = "UM10204, I2C-bus specification, 7.1: pull-up resistor sizing"
RS485, RATE_LENGTH = 1200.0, 1e8
"""m at the most (TIA-485), and bit m / s that a usual cable carries (TIA TSB-89)."""
PLAIN = 2.0
"""m of a serial link without drivers that is usually found to work."""


@record(frozen=True)
class I2cBudget:
    """One I2C bus.

    Attributes:
        bus: which.
        chips: how many hang on it, and on those before it.
        length: m of its wires, and theirs.
        farad: of a line.
        least, most: ohm between which the pull-ups must be.
        ohm: that they have.
        guessed: nobody said so.
    """

    bus: Part
    chips: int
    length: float
    farad: float
    least: float
    most: float
    ohm: float
    guessed: bool


def pull_up_range(volts: float, farad: float, rate: float) -> tuple[float, float]:
    """The least and the most ohm of a pull-up: what a chip can sink, and how fast the line must rise."""
    rise = next((time for most, time in RISE if rate <= most), RISE[-1][1])
    return (volts - LOW) / SINK, rise / (0.8473 * farad)


@once
def i2c(design: Design) -> list[I2cBudget]:
    """Every I2C bus."""
    volts = design.board.chip.logic if design.board else 3.3
    return [_i2c(design, bus, volts) for bus in design.with_role("i2c")]


def _i2c(design: Design, bus: Part, volts: float) -> I2cBudget:
    """A bus with those before it: while a channel is connected, its line and theirs are one, with the pull-ups of all side by side."""
    segments = [bus, *upstream(bus)]
    counts = [sum(part.linked.get("bus") is one for part in design.parts.values()) for one in segments]
    chips = sum(counts) + len(segments) - 1
    length = sum(one.get("length", 0.3) for one in segments)
    farad = PER_CHIP * (chips + 1) + PER_METRE * length
    least, most = pull_up_range(volts, farad, segments[-1].get("speed", 100e3))
    given = [one.values.get("pull_ups") for one in segments]
    ohm = 1 / sum(1 / (own or BREAKOUT / max(1, count)) for own, count in zip(given, counts, strict=True))
    return I2cBudget(bus, chips, length, farad, least, most, ohm, None in given)


def serial_reach(part: Part) -> float | None:
    """m that a serial link may be long; None where no length is given."""
    if part.values.get("length") is None:
        return None
    if part.values.get("enable") is None and not part.get("rs485", False):
        return PLAIN
    return min(RS485, RATE_LENGTH / part.get("baud", 9600))


def rows(design: Design) -> Iterator[BudgetRow]:
    """The figures of every bus."""
    for budget in i2c(design):
        guess = (
            "assumed where pull_ups is missing: one breakout with 10 kohm a chip"
            if budget.guessed
            else "the device file"
        )
        worked = f"{budget.chips + 1} pins x 10 pF + {budget.length:g} m x 100 pF/m"
        yield row(
            "buses",
            budget.bus.name,
            "capacitance of a line",
            budget.farad,
            "F",
            400e-12,
            formula=worked,
            source=SOURCE,
        )
        yield row(
            "buses",
            budget.bus.name,
            "pull-up",
            budget.ohm,
            "ohm",
            budget.most,
            formula="rise time / (0.8473 C)",
            source=f"{SOURCE}; {guess}",
        )
        yield row(
            "buses",
            budget.bus.name,
            "pull-up",
            budget.ohm,
            "ohm",
            budget.least,
            formula="(V - 0.4 V) / 3 mA",
            source=SOURCE,
            least=True,
        )
    for part in design.with_role("uart"):
        reach = serial_reach(part)
        if reach is not None:
            source = (
                "TIA-485; TIA TSB-89: 10^8 bit m/s"
                if part.values.get("enable") is not None or part.get("rs485", False)
                else "a rule of thumb for links without drivers"
            )
            yield row(
                "buses",
                part.name,
                "its length",
                part.get("length", 0.0),
                "m",
                reach,
                formula="min(1200 m, 10^8 / baud)",
                source=source,
            )
