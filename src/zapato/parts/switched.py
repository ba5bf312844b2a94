"""What relays, LEDs and other things with one switched pin share."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

from zapato.boards.board import Level
from zapato.lang.fields import REQUIRED, Field, choice, measured, pin
from zapato.parts.kind import Action, Argument, Driver, Need, Part, Property, Wrap, opposite
from zapato.parts.simulation import Simulation
from zapato.parts.stimuli import PinLevel

ON = Property("boolean", settable=True, help="switched on")

SWITCHING: Mapping[str, Action] = {
    "on": Action(undo="off", help="switch on"),
    "off": Action(undo="on", help="switch off"),
    "toggle": Action(undo="toggle", help="change to the other state"),
}

PULSE = Action((Argument("time", "time"),), help="on, and off again after this time")


def switched_pin(what: str, *, persisted: bool = True, needed: bool = True) -> tuple[Field, ...]:
    """The fields of a thing on one pin that has an active level; `persisted` where it can come back as it was, `needed` where it always has a pin."""
    states = ("on", "off", "last") if persisted else ("on", "off")
    return (
        pin("pin", f"the pin that drives {what}", REQUIRED if needed else None),
        choice("active", "the level that switches it on", "high", "low", default="high"),
        choice("start", "the state after power-up", *states, default="off"),
    )


def longest_on() -> Field:
    return measured(
        "longest_on", "switched off after this time, whoever switched it on", "time", None, least=100
    )


def with_longest(driver: Driver, part: Part) -> Driver:
    """A driver with what its part's `longest_on` asks for."""
    return replace(driver, wraps=longest(part))


def longest(part: Part) -> tuple[Wrap, ...]:
    """The object that switches it off after its longest time, where it has one."""
    ms = part.values.get("longest_on")
    return (("limits", "Longest", (ms,)),) if ms else ()


def active_number(part: Part) -> int:
    """1 where a high level is active, else 0."""
    return int(part.get("active", "high") == "high")


def start_level(part: Part) -> int:
    """The level that is safe at power-up: "last" waits for the stored state in the off state."""
    active = active_number(part)
    return active if part.get("start", "off") == "on" else 1 - active


def on_property(part: Part) -> Mapping[str, Property]:
    return {"on": ON}


def drive_need(
    part: Part, circuit: str, *, clicks: bool = False, pwm: bool = False, rate: float = 0.0
) -> Iterable[Need]:
    """One driven pin; the circuit behind it pulls the pin towards the level that switches it off."""
    active: Level = "high" if active_number(part) else "low"
    yield Need(
        "pin",
        "output",
        rest=opposite(active),
        active=active,
        circuit=circuit,
        clicks=clicks,
        pwm=pwm,
        rate=rate,
    )


def level_simulation(part: Part) -> Simulation:
    """The truth of `on` is the level on the pin, measured."""
    if "pin" not in part.pins:
        return Simulation()
    return Simulation(probes={"on": PinLevel(part.pins["pin"].gpio, active_number(part))})
