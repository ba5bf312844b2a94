"""A blind or curtain: two outputs for its motor, or a motor with a controller of its own on a serial link."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from zapato.boards.board import Level
from zapato.lang.fields import choice, measured, names, pin, text
from zapato.parts.blind.sim import CurtainMoved, CurtainPosition
from zapato.parts.electrical import (
    COIL,
    DRIVER,
    INPUT,
    PIN,
    Load,
    Supplied,
    coil_source,
    coil_supplied,
    usual,
)
from zapato.parts.frames.part import can_say, controller_simulation
from zapato.parts.kind import Action, Argument, Driver, Kind, Need, Part, Property, opposite
from zapato.parts.simulation import Simulation


class BlindKind(Kind):
    """A blind or curtain; position 0 is closed, 100 is open."""

    terminals = {"open": "IN open", "close": "IN close"}
    name = "blind"
    help = "a blind or curtain; position 0 is closed, 100 is open"
    fields = (
        measured("coil", "the current of the coil of one of its two relays", "A", None, least=0.001, most=5),
        measured("coil_voltage", "rated voltage of its relays' coils", "V", None, least=1, most=400),
        text("fed_from", 'what feeds the coils: "5V", "3V3", or the name of a supply', INPUT),
        pin("open", "the pin that drives it open", None),
        pin("close", "the pin that drives it closed", None),
        choice("active", "the level that drives", "high", "low", default="high"),
        names(
            "serial",
            "the frames of a motor with its own controller, [frames.…], in place of the two pins",
            None,
            role="bus",
        ),
        measured("travel", "time from closed to open", "time", 30_000, least=500),
    )
    events = {"moved": "it came to rest at another position"}
    actions = {
        "open": Action(undo="close", help="go to 100", needs="a frame for open or position in says"),
        "close": Action(undo="open", help="go to 0", needs="a frame for close or position in says"),
        "stop": Action(help="stop where it is", needs="a frame for stop in says"),
        "go": Action(
            (Argument("position", "number"),), help="go to a position", needs="a frame for position in says"
        ),
    }
    wiring = (
        "Two relays or a motor driver, one pin for each direction; never both, which the firmware "
        "sees to, and better a wiring in which it cannot happen (the second relay behind the "
        "first one's rest contact). End switches belong into the motor."
    )
    example = "[blind.window]\nopen = 25\nclose = 26"

    def properties(self, part: Part) -> Mapping[str, Property]:
        return {
            "position": Property(
                "number",
                "%",
                settable=can_say(part, "position"),
                unknown=True,
                low=0,
                high=100,
                help="0 closed, 100 open",
            )
        }

    def actions_of(self, part: Part) -> Mapping[str, Action]:
        words = {"open": ("open", "position"), "close": ("close", "position"), "go": ("position",)}
        return {
            name: action for name, action in self.actions.items() if can_say(part, *words.get(name, (name,)))
        }

    def needs(self, part: Part) -> Iterable[Need]:
        active: Level = part.get("active", "high")
        for field in ("open", "close"):
            if part.values.get(field) is not None:
                circuit = f"the driver that {field}s the blind"
                yield Need(
                    field, "output", rest=opposite(active), active=active, circuit=circuit, clicks=True
                )

    def loads(self, part: Part) -> Iterable[Load]:
        """Of its two relays one is closed at a time."""
        if part.values.get("serial"):
            return
        feed, coil = part.get("fed_from", INPUT), part.get("coil", COIL)
        yield Load("the coil of one direction", feed, 0, 0, coil, coil_source(part))
        for line in ("open", "close"):
            if line in part.pins:
                yield Load(
                    f"the driver to {line}",
                    PIN,
                    0,
                    0,
                    DRIVER,
                    usual("4 mA for the input of a relay board"),
                    line,
                )

    def supplied(self, part: Part) -> Supplied | None:
        return coil_supplied(part)

    def driver(self, part: Part) -> Driver | None:
        if part.values.get("serial"):
            if "serial" not in part.linked:
                return None
            return Driver("by_frames", "FrameBlind", (part.linked["serial"].name,))
        active = int(part.get("active", "high") == "high")
        pins = (part.at("open"), part.at("close"))
        return Driver("blind", "Blind", (*pins, active, round(part.get("travel", 30_000))))

    def simulation(self, part: Part) -> Simulation:
        """The position comes from the controller or from the output pins; the world sets it at the beginning."""
        if part.values.get("serial"):
            return controller_simulation(part, ("position",))
        if part.pins.keys() < {"open", "close"}:
            return Simulation()
        active = int(part.get("active", "high") == "high")
        where = part.pins["open"].gpio, part.pins["close"].gpio, active, round(part.get("travel", 30_000))
        return Simulation(
            probes={"position": CurtainPosition(*where)}, stimuli={"position": CurtainMoved(*where)}
        )

    def requires(self, part: Part) -> Iterable[str]:
        return () if part.values.get("serial") else ("open", "close")

    def bus(self, part: Part) -> str:
        return "frames"


KIND = BlindKind()
