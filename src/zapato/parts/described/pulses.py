"""A described chip that gives pulses: its driver, and what its pin feels in a rehearsal."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from zapato.lang.fields import choice
from zapato.parts.described.description import Description, class_name
from zapato.parts.described.lines import beginning, counted, ending
from zapato.parts.described.shapes import COUNT, RATE
from zapato.parts.kind import Driver, Part, Property
from zapato.parts.sensors import SensorChip
from zapato.parts.sensors.pulse.chip import CHIP as PULSE
from zapato.parts.sensors.pulse.sim import Rate
from zapato.parts.simulation import Simulation, Stimulus, World
from zapato.record import record

HALVES = 60
"""Halvings of the range of rates in which the one is looked for that a value belongs to."""


@record(eq=False)
class ValueStimulus(Stimulus):
    """A value; pulses come as often as it says."""

    chip: Description
    name: str
    gpio: int
    settings: Mapping[str, float]

    def put(self, world: World, value: Any, over: int = 0) -> None:
        rate = None if value is None else rate_of(self.chip, self.name, float(value), self.settings)
        Rate(self.gpio).put(world, rate, over)


def rate_of(chip: Description, name: str, value: float, settings: Mapping[str, float]) -> float:
    """Pulses a second at which a value is this one, between none and the most."""
    low, high = 0.0, float(chip.head["pulses_most"])

    def at(rate: float) -> float:
        return chip.amount(name, {**settings, COUNT: 0, RATE: rate})

    rises = at(high) > at(low)
    for _ in range(HALVES):
        middle = (low + high) / 2
        if (at(middle) < value) == rises:
            low = middle
        else:
            high = middle
    # a value at the end of the range is meant exactly: no pulse at all where nothing flows
    return min((0.0, low, float(chip.head["pulses_most"])), key=lambda rate: abs(at(rate) - value))


def by_rate(chip: Description) -> list[str]:
    """The values that hang on the rate of the pulses, and not on how many there were."""
    reached = {name: chip.reached(value.formula) for name, value in chip.values.items()}
    return [name for name, names in reached.items() if RATE in names and COUNT not in names]


def made(chip: Description, properties: Mapping[str, Property]) -> SensorChip:
    """What the program knows of it: as of a bare pulse input, with its own values."""
    head, settable = chip.head, by_rate(chip)

    def counts(part: Part) -> dict[str, float]:
        return chip.counts({name: str(part.get(name, s.default)) for name, s in chip.settings.items()})

    def driver(part: Part) -> Driver:
        given, plain = counts(part), PULSE.driver(part)
        arguments = (*plain.arguments, *(given[name] for name in chip.read_settings))
        return replace(plain, module=f"d_{chip.name}", cls=class_name(chip.name), arguments=arguments)

    def simulation(part: Part) -> Simulation:
        at = part.pins["pin"].gpio
        return Simulation(stimuli={name: ValueStimulus(chip, name, at, counts(part)) for name in settable})

    return replace(
        PULSE,
        name=chip.name,
        help=head["help"],
        properties=properties,
        driver=driver,
        simulation=simulation,
        need=replace(PULSE.need, circuit=f"the pulse output of the {chip.name}") if PULSE.need else None,
        fields=(
            *PULSE.fields,
            *(choice(s.name, s.help, *s.options, default=s.default) for s in chip.settings.values()),
        ),
        fastest=max(PULSE.fastest, round(head["fastest"])),
        takes=head["supply"] or None,
        draws=head["draws"],
        lifts=head["output"] == "supply",
        wiring=head["wiring"],
        source=head["source"],
        derived=tuple(name for name in chip.values if name not in settable),
    )


def driver_source(chip: Description) -> str:
    """The module of a described chip that gives pulses."""
    lines = [
        *beginning(chip, "s_pulse.Pulse", "gpio, pull, rising"),
        "    def measure(self):",
        f"        {COUNT}, {RATE} = super().measure()",
        *counted(chip),
        *ending(chip),
    ]
    return "\n".join(lines) + "\n"
