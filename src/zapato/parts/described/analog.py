"""A described chip with a voltage output: its driver, the key for its divider, and what its pin feels in a rehearsal."""

from __future__ import annotations

from typing import Any

from zapato.lang.fields import choice
from zapato.parts.described.description import Description, class_name
from zapato.parts.described.lines import beginning, counted, ending
from zapato.parts.described.shapes import VOLTS
from zapato.parts.kind import Driver, Need, Part, Property
from zapato.parts.sensors import SensorChip, common
from zapato.parts.sensors.analog.chip import CHIP as ANALOG
from zapato.parts.sensors.analog.chip import ratio
from zapato.parts.simulation import Simulation, Stimulus, World
from zapato.parts.stimuli import line_faults
from zapato.record import record

STEPS = 4096
"""Voltages of its range that are looked through for the one that a value belongs to."""


@record(eq=False)
class ValueStimulus(Stimulus):
    """A value; the pin feels the voltage that it belongs to, behind the divider."""

    chip: Description
    name: str
    gpio: int
    per: float
    settings: dict[str, float]

    def put(self, world: World, value: Any, over: int = 0) -> None:
        volts = (
            None if value is None else volts_of(self.chip, self.name, float(value), self.settings) / self.per
        )
        world.apply("volts", self.gpio, value=volts, over=over)


def volts_of(chip: Description, name: str, value: float, settings: dict[str, float]) -> float:
    """The voltage in the range whose value comes nearest: on a grid first, then between its neighbours."""
    low, high = chip.head["range"]
    best = low

    def off(volts: float) -> float:
        return abs(chip.amount(name, {**settings, VOLTS: volts}) - value)

    for _ in range(3):
        step = (high - low) / STEPS
        best = min((low + step * n for n in range(STEPS + 1)), key=off)
        low, high = max(low, best - step), min(high, best + step)
    return best


def made(chip: Description, properties: dict[str, Property]) -> SensorChip:
    """What the program knows of it: as of the bare analog input, with its own values."""
    head = chip.head
    first = next(iter(chip.values))

    def counts(part: Part) -> dict[str, float]:
        return chip.counts({name: str(part.get(name, s.default)) for name, s in chip.settings.items()})

    def driver(part: Part) -> Driver:
        given = counts(part)
        arguments = (
            *common(part),
            part.at("pin"),
            ratio(part),
            *(given[name] for name in chip.read_settings),
        )
        return Driver(f"d_{chip.name}", class_name(chip.name), arguments)

    def simulation(part: Part) -> Simulation:
        at = part.pins["pin"].gpio
        cut = "low" if part.values.get("divider") else "cut"
        stimulus = ValueStimulus(chip, first, at, ratio(part), counts(part))
        return Simulation(stimuli={first: stimulus}, gestures=line_faults(at, cut))

    fields = tuple(field for field in ANALOG.fields if field.name == "divider")
    return SensorChip(
        name=chip.name,
        help=head["help"],
        properties=properties,
        driver=driver,
        simulation=simulation,
        need=Need("pin", "analog", circuit=f"the voltage output of the {chip.name}"),
        fields=(
            *fields,
            *(choice(s.name, s.help, *s.options, default=s.default) for s in chip.settings.values()),
        ),
        fastest=round(head["fastest"]),
        takes=head["supply"] or None,
        draws=head["draws"],
        wiring=head["wiring"],
        source=head["source"],
        derived=tuple(name for name in chip.values if name != first),
        beside=ANALOG.beside,
        source_ohm=ANALOG.source_ohm,
        puts_out=head["range"],
    )


def driver_source(chip: Description) -> str:
    """The module of a described chip with a voltage output."""
    low, high = chip.head["range"]
    spare = (high - low) / 20
    lines = [
        *beginning(chip, "s_analog.Analog", "gpio, ratio"),
        "    def measure(self):",
        f"        {VOLTS} = super().measure()[0]",
        f"        if not {low - spare:g} <= {VOLTS} <= {high + spare:g}:",
        '            raise ValueError("its output is beyond its range")',
        *counted(chip),
        *ending(chip),
    ]
    return "\n".join(lines) + "\n"
