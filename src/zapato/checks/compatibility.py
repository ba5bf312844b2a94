"""Which pins suit a use: the judgement behind pin findings, their ways out, and the solver.

A warning that every pin of a board has becomes one note: it is the board's nature, not a mistake.
"""

from __future__ import annotations

from collections.abc import Iterator

from zapato.boards.board import Pin
from zapato.checks.registry import judges
from zapato.checks.rule import Incompatibility, PinRule
from zapato.design.design import Design, PinUse
from zapato.findings import Finding

SHOWN = 8
"""Pins that a way out lists at the most."""

COST = {"error": 10_000, "warning": 100, "note": 1}


def incompatibilities(use: PinUse, design: Design) -> Iterator[tuple[PinRule, Incompatibility]]:
    """Everything that speaks against this pin for this use."""
    for rule in judges():
        if judged := rule.judge(use, design):
            yield rule, judged


def hazard(use: PinUse, design: Design) -> int:
    """How much speaks against the pin, for choosing among several."""
    return sum(COST[problem.severity] for _, problem in incompatibilities(use, design))


def candidates(use: PinUse, design: Design) -> list[Pin]:
    """The free pins that suit the use, the least hazardous first; those with a warning only where there are no others."""
    if design.board is None:
        return []
    taken = _shared_outputs(use, design)
    free = [
        pin
        for pin in design.board.usable
        if pin.gpio not in design.users and _output(pin, design) not in taken
    ]
    ranked = sorted((hazard(use.on(pin), design), _scarce(use, pin), pin.gpio) for pin in free)
    harmless = [gpio for cost, _, gpio in ranked if cost < COST["warning"]]
    return [design.board.pin(gpio) for gpio in harmless or [g for c, _, g in ranked if c < COST["error"]]]


def _output(pin: Pin, design: Design) -> int:
    """The modulation output that belongs to a pin, where the chip fixes that; else -1."""
    fixed = design.board.chip.resources.pwm_fixed if design.board else 0
    return pin.gpio % fixed if fixed else -1


def _shared_outputs(use: PinUse, design: Design) -> set[int]:
    """Modulation outputs that other parts have on their own pins."""
    others = (
        other_use
        for other_use in design.uses
        if other_use.need.pwm and other_use.part is not use.part and other_use.pin.gpio >= 0
    )
    return {_output(other.pin, design) for other in others} - {-1} if use.need.pwm else set()


def _scarce(use: PinUse, pin: Pin) -> int:
    """A pin that something else may need more: read at reset, or analog where analog is not asked for."""
    return 4 * bool(pin.console) + 2 * (pin.boot is not None) + (bool(pin.adc) and use.need.use != "analog")


def another_pin(use: PinUse, design: Design) -> str:
    """The way out: which other pins could do it."""
    pins = candidates(use, design)
    if not pins:
        return f"no free pin of {design.board.id if design.board else 'this board'} can do this: choose another board, or free a pin"
    names = ", ".join(_written(pin, design) for pin in pins[:SHOWN])
    return f"free pins that can do this: {names}" + (
        f" and {len(pins) - SHOWN} more" if len(pins) > SHOWN else ""
    )


def label_meant(design: Design, given: object) -> str:
    """The way out where a bare number was meant as the label "D8" of a board whose labels differ."""
    if type(given) is not int or design.board is None:
        return ""
    gpio = design.board.labels.get(f"d{given}")
    unfit = gpio is not None and gpio in design.board.chip.pins and bool(design.board.chip.pins[gpio].flash)
    return (
        ""
        if gpio in (None, given) or unfit
        else f'if the label D{given} is meant: pin = "D{given}", which is GPIO{gpio}'
    )


def _written(pin: Pin, design: Design) -> str:
    """A pin as the device file would have it, with its label where the two differ."""
    if pin.analog_only:
        return f'"{pin.name}"'
    called = design.called(pin)
    return str(pin.gpio) if called == pin.name else f"{pin.gpio} ({called.partition('(')[2]}"


def pin_findings(design: Design) -> Iterator[Finding]:
    """Every incompatibility of a pin of the design, as findings.

    A warning that no pin of the board would be free of is told once for the device, as a note.
    """
    everywhere: dict[str, list[PinUse]] = {}
    for use in design.uses:
        for rule, problem in incompatibilities(use, design):
            if problem.severity == "warning" and _everywhere(rule, use, design):
                everywhere.setdefault(rule.code, []).append(use)
                continue
            why = f"{problem.why} ({problem.source})." if problem.source else f"{problem.why}."
            fixes = (
                label_meant(design, use.part.values.get(use.need.field)),
                *problem.fixes,
                *([] if problem.fixes and _everywhere(rule, use, design) else [another_pin(use, design)]),
            )
            yield design.finding(
                rule.code, problem.severity, use.path, problem.message, why=why, fixes=fixes, pin=use.pin
            )
    for code, uses in everywhere.items():
        names = ", ".join(dict.fromkeys(use.part.id for use in uses))
        board = design.board.id if design.board else "this board"
        message = f"on every pin of {board} {code} applies to {names}"
        why = f"zapato explain {code} tells what it is; zapato boards {board} lists each pin."
        yield design.finding(code, "note", ("device", "board"), message, why=why)


def _everywhere(rule: PinRule, use: PinUse, design: Design) -> bool:
    """True where every usable pin of the board has the same rule against it."""
    pins = design.board.usable if design.board else ()
    return len(pins) > 0 and all(rule.judge(use.on(pin), design) for pin in pins)
