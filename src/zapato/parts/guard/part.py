"""A guard: over its limit outputs go off, and stay off whatever links, people or timers say."""

from __future__ import annotations

from collections.abc import Mapping

from zapato.lang.fields import REQUIRED, choice, measured, names, number, text
from zapato.parts.kind import Action, Driver, Kind, Part, Property


def _members(part: Part, name: str) -> list[str]:
    """The outputs behind a name: a group is its members, as each can be switched by itself."""
    outputs, left, seen = list[str](), [part.linked.get(f"off.{name}")], set[str]()
    while left:
        member = left.pop(0)
        if member is None or member.name in seen:
            continue
        seen.add(member.name)
        members = [p for key, p in member.linked.items() if key.startswith("of.")]
        outputs += [] if members else [member.name]
        left += members
    return outputs


class GuardKind(Kind):
    """Over a limit the named outputs go off, and stay off whatever links or MQTT say."""

    name = "guard"
    late = True
    help = "over a limit the named outputs go off, and stay off whatever links or MQTT say"
    fields = (
        text(
            "when",
            "the condition that trips it, such as cabinet.temperature > 80",
            REQUIRED,
            most=1000,
            role="condition",
        ),
        names("off", "the outputs that it holds off", REQUIRED),
        number("back", "hysteresis: it releases only when the value has gone back by this much"),
        measured(
            "unknown_for",
            "it also trips when a value that it uses has been unknown for this long",
            "time",
            None,
            least=1000,
        ),
        choice(
            "release",
            "self: releases when the condition is false again; hand: only by the action release",
            "self",
            "hand",
            default="self",
        ),
    )
    actions = {
        "trip": Action(undo="release", help="hold the outputs off now"),
        "release": Action(undo="trip", help="release the outputs; refused while the condition is true"),
    }
    wiring = (
        "Nothing to wire. It is software: where a failure could burn or flood, a thermostat, a "
        "fuse or a float switch in the circuit itself comes first."
    )
    example = (
        '[relay.heater]\npin = 26\n\n[sensor.cabinet]\nchip = "dht22"\npin = 27\n\n'
        '[guard.hot]\nwhen = "cabinet.temperature > 75"\nback = 10\noff = ["heater"]'
    )

    def properties(self, part: Part) -> Mapping[str, Property]:
        return {"tripped": Property("boolean", help="it holds its outputs off")}

    def driver(self, part: Part) -> Driver:
        by_hand = part.get("release", "self") == "hand"
        outputs = tuple(
            dict.fromkeys(member for name in part.get("off", ()) for member in _members(part, name))
        )
        arguments = (outputs, by_hand, part.get("unknown_for", 0))
        return Driver("guard", "Guard", arguments, watches="when")


KIND = GuardKind()
