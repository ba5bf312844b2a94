"""A dimmer: a lamp or motor whose level is set by pulse-width modulation, or by a true analog output."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from zapato.lang.fields import choice, measured, names, number
from zapato.parts.electrical import OWN, PIN, Load, fed, usual
from zapato.parts.frames.part import can_say, controller_simulation
from zapato.parts.kind import Action, Argument, Driver, Kind, Need, Part, Property
from zapato.parts.simulation import Probe, Simulation
from zapato.parts.stimuli import Lit, Share
from zapato.parts.switched import (
    ON,
    SWITCHING,
    active_number,
    drive_need,
    longest_on,
    switched_pin,
    with_longest,
)

_DRIVERS: Mapping[tuple[bool, bool], tuple[str, str]] = {
    (False, False): ("dimmer", "Dimmer"),
    (False, True): ("dimmer_dac", "DacDimmer"),
    (True, False): ("dimmer_persisted", "PersistedDimmer"),
    (True, True): ("dimmer_dac_persisted", "PersistedDacDimmer"),
}
"""Module and class: comes back as it was, leaves the pin as a voltage."""


class DimmerKind(Kind):
    """A lamp or motor with a level from 0 to 100 %."""

    terminals = {"pin": "gate"}
    name = "dimmer"
    help = "a lamp or motor with a level from 0 to 100 %"
    fields = (
        *fed("no supply", "what the lamp takes"),
        *switched_pin("the dimmer", needed=False),
        names(
            "serial",
            "the frames of a dimmer with a controller of its own, [frames.…], in place of a pin",
            None,
            role="bus",
        ),
        choice("by", "how the level leaves the pin", "pwm", "dac", default="pwm"),
        number("gamma", "the light follows the level to this power; 2.2 suits the eye", 1),
        longest_on(),
        measured("rate", "pulses a second", "Hz", 1000, least=1, most=40_000),
    )
    actions = {
        **SWITCHING,
        "fade": Action(
            (Argument("level", "number"), Argument("time", "time")),
            help="go to a level within a time",
            needs="a frame for level in says",
        ),
    }
    wiring = (
        "The pin drives the gate of a logic-level MOSFET (through 100 ohm, with 10 kohm from gate "
        "to ground) for a strip or lamp at 12 V or 24 V, or the 0 to 10 V or PWM input of a "
        "driver. Mains dimmers need a driver of their own."
    )
    example = "[dimmer.hall]\npin = 25"

    def properties(self, part: Part) -> Mapping[str, Property]:
        return {
            "on": ON,
            "level": Property(
                "number",
                "%",
                settable=can_say(part, "level"),
                low=0,
                high=100,
                help="0 to 100 %; during a fade where it goes",
            ),
        }

    def actions_of(self, part: Part) -> Mapping[str, Action]:
        return self.actions if can_say(part, "level") else SWITCHING

    def needs(self, part: Part) -> Iterable[Need]:
        if part.values.get("serial"):
            return []
        if part.get("by", "pwm") == "dac":
            return [Need("pin", "dac", circuit="an analog input that follows the pin's voltage")]
        return drive_need(
            part, "the gate of a power transistor", clicks=True, pwm=True, rate=part.get("rate", 1000)
        )

    def requires(self, part: Part) -> Iterable[str]:
        return () if part.values.get("serial") else ("pin",)

    def bus(self, part: Part) -> str:
        return "frames"

    def loads(self, part: Part) -> Iterable[Load]:
        if part.values.get("serial"):
            return
        yield Load(
            "the gate of its transistor", PIN, 0, 0, 0.001, usual("1 mA for a transistor's gate"), "pin"
        )
        if part.values.get("current") and part.get("fed_from", ""):
            most = part.get("current", 0.0)
            yield Load("the lamp", part.get("fed_from", ""), 0, most / 2, most, OWN)

    def driver(self, part: Part) -> Driver | None:
        if part.values.get("serial"):
            if "serial" not in part.linked:
                return None
            return with_longest(Driver("by_frames", "FrameDimmer", (part.linked["serial"].name,)), part)
        rate, gamma = round(part.get("rate", 1000)), part.get("gamma", 1)
        on = part.get("start", "off") == "on"
        arguments = (part.pins["pin"].gpio, active_number(part), on, rate, gamma)
        persisted, voltage = part.get("start", "off") == "last", part.get("by", "pwm") == "dac"
        return with_longest(Driver(*_DRIVERS[persisted, voltage], arguments), part)

    def simulation(self, part: Part) -> Simulation:
        """Level and state are measured at the pin, or told by the controller; with a gamma the pin has another share than the level."""
        if part.values.get("serial"):
            return controller_simulation(part, ("on", "level"))
        if "pin" not in part.pins:
            return Simulation()
        at = part.pins["pin"].gpio, active_number(part)
        reads: dict[str, Probe] = {"on": Lit(*at)}
        if part.get("gamma", 1) == 1:
            reads["level"] = Share(*at)
        return Simulation(probes=reads)


KIND = DimmerKind()
