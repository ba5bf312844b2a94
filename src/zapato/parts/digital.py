"""What buttons, contacts and motion sensors share: one debounced digital input."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from zapato.boards.board import Level
from zapato.lang.fields import Field, choice, measured, pin
from zapato.parts.kind import Driver, Need, Part, Property, Wrap, opposite
from zapato.parts.simulation import Simulation, Stimulus
from zapato.parts.stimuli import Contact, LooseWire, Press

PULLS = {"up": 1, "down": 2, "none": 0}
"""How the plan writes a pull."""


def input_fields(what: str, *, pull: object, active: str, settle: str) -> tuple[Field, ...]:
    """The fields of a digital input; `settle` is the default debounce time."""
    from zapato.lang.units import quantity

    return (
        pin("pin", f"the pin that reads {what}"),
        choice("pull", "the internal resistor", "up", "down", "none", default=pull),
        choice("active", f"the level that means {what}", "high", "low", default=active),
        measured(
            "settle",
            "a new level counts after it has stood this long",
            "time",
            round(quantity(settle, "time")),
            most=10_000,
        ),
        measured(
            "quiet",
            "after a change, further changes are let pass for this long",
            "time",
            None,
            most=86_400_000,
        ),
        measured("level", "the high level that the part puts on the pin", "V", None, most=60),
        choice(
            "watch",
            "by interrupt, or by looking every 10 ms; auto takes the interrupt where the pin has one",
            "auto",
            "interrupt",
            "poll",
            default="auto",
        ),
    )


def active_level(part: Part, default: Level) -> Level:
    return part.get("active", default)


def input_need(
    part: Part, default: Level, circuit: str, *, driven: bool = False, usual: bool = False
) -> Iterable[Need]:
    """One read pin. A switch leaves it floating at rest; a `driven` one has an output of its own.

    `usual`: the part is in its active state most of the time, as a closed door is.
    """
    active, pull = active_level(part, default), part.get("pull", "none")
    yield Need(
        "pin",
        "input",
        pull="" if pull == "none" else pull,
        interrupt=part.get("watch", "auto") == "interrupt",
        rest=opposite(active) if driven else None,
        firm=driven,
        operated=active,
        circuit=circuit,
        volts=part.get("level", 0.0),
        usual=active if usual else None,
    )


def input_driver(
    part: Part, default: Level, words: tuple[str, str, str], cls: tuple[str, str] = ("switch", "Switch")
) -> Driver:
    """The debounced input; `words` are its property, the event into it and the event out of it."""
    at = part.pins["pin"]
    watch = part.get("watch", "auto")
    poll = watch == "poll" or (watch == "auto" and not at.interrupt)
    active = int(active_level(part, default) == "high")
    arguments = (part.at("pin"), PULLS[part.get("pull", "none")], active, part.get("settle", 30), poll)
    quiet = part.values.get("quiet")
    wraps: tuple[Wrap, ...] = (("holdoff", "HoldOff", (quiet,)),) if quiet else ()
    return Driver(cls[0], cls[1], (*arguments, *words) if cls[0] == "switch" else arguments, wraps=wraps)


def input_simulation(
    part: Part, default: Level, name: str, presses: Mapping[str, tuple[int, int]] | None = None
) -> Simulation:
    """The world's side: a level that a gesture or a rehearsal sets; `presses` are how often, and for how many ms."""
    gpio, active = part.pins["pin"].gpio, int(active_level(part, default) == "high")
    gestures: dict[str, Stimulus] = {
        word: Press(part.name, gpio, active, *press) for word, press in (presses or {}).items()
    }
    wires: dict[str, Stimulus] = {"loose": LooseWire(gpio, True), "fixed": LooseWire(gpio, False)}
    settles = part.get("settle", 30), part.get("quiet", 0)
    return Simulation(
        stimuli={name: Contact(part.name, gpio, active)}, gestures=gestures | wires, settles=settles
    )


def state_property(name: str, help: str) -> Mapping[str, Property]:
    return {name: Property("boolean", help=help)}
