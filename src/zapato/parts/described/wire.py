"""A described chip on a one-wire bus: its driver, its serial number's key, and what answers on the line in a rehearsal."""

from __future__ import annotations

from collections.abc import Mapping
from math import ceil
from typing import Any

from zapato.lang.fields import choice
from zapato.parts.described.description import Description, class_name
from zapato.parts.described.lines import beginning, counted, ending, fields, sent, valid
from zapato.parts.kind import Driver, Part, Property
from zapato.parts.onewire.serial import number_of, serial_field
from zapato.parts.sensors import SensorChip, common
from zapato.parts.simulation import Simulation, Stimulus, World
from zapato.record import record


@record(eq=False)
class WireStimulus(Stimulus):
    """A value that the chip of this serial number feels."""

    chip: Description
    gpio: int
    number: bytes
    what: str

    @property
    def place(self) -> tuple[int, object]:  # type: ignore[override]
        return self.gpio, self.number

    def put(self, world: World, value: Any, over: int = 0) -> None:
        from zapato.parts.described.wire_sim import DescribedWireChip

        where = "onewire", self.gpio, self.number
        world.on_wire(
            self.gpio,
            self.number,
            lambda: DescribedWireChip(self.chip, lambda what: world.applied(*where, what), world),
        )
        world.apply(*where, self.what, value=value, over=over)


def made(chip: Description, properties: Mapping[str, Property]) -> SensorChip:
    """What the program knows of it."""
    head = chip.head

    def driver(part: Part) -> Driver:
        bus = part.linked["bus"].name if "bus" in part.linked else ""
        counts = chip.counts({name: str(part.get(name, s.default)) for name, s in chip.settings.items()})
        given = (counts[name] for name in chip.read_settings)
        return Driver(
            f"d_{chip.name}", class_name(chip.name), (*common(part), bus, part.get("serial", ""), *given)
        )

    def simulation(part: Part) -> Simulation:
        pins = part.linked["bus"].pins if "bus" in part.linked else {}
        if "pin" not in pins:
            return Simulation()
        number = number_of(part.get("serial", ""), part.name, head["family"])
        stimuli = {name: WireStimulus(chip, pins["pin"].gpio, number, name) for name in chip.own}
        return Simulation(stimuli=stimuli)

    return SensorChip(
        name=chip.name,
        help=head["help"],
        properties=properties,
        driver=driver,
        simulation=simulation,
        bus="onewire",
        family=head["family"],
        fields=(
            serial_field(head["family"]),
            *(choice(s.name, s.help, *s.options, default=s.default) for s in chip.settings.values()),
        ),
        fastest=round(max(head["fastest"], *(step.takes for step in chip.steps))),
        takes=head["supply"] or None,
        draws=head["draws"],
        wiring=head["wiring"],
        source=head["source"],
        derived=tuple(name for name in chip.values if name not in chip.own),
    )


def driver_source(chip: Description) -> str:
    """The module of a described chip on a one-wire bus."""
    measures = [step for step in chip.steps if step.layout is None]
    takes = ceil(sum(step.takes for step in measures))
    lines = beginning(
        chip, "wire_sensor.WireSensor", "bus, serial", [f"    converts = {takes + 1}"] if takes else ()
    )
    if measures:
        lines += ["    def convert(self):"]
        lines += [f"        self.send({', '.join(sent(step))})" for step in measures]
        lines += [""]
    lines += ["    def measure(self):", *counted(chip)]
    for step in chip.reading:
        size = step.layout.size if step.layout else 0
        lines += [f"        self.send({', '.join(sent(step))})", f"        b = self.get({size})"]
        lines += [*fields(step), *valid(step)]
    return "\n".join([*lines, *ending(chip)]) + "\n"
