"""The seam for extensions: what a kind of part, a sensor chip or a rule from outside is made of.

A kind, in part.py of a bundle named like it:

    from zapato.extend import Driver, Kind, pin

    class BuzzerKind(Kind):
        name, help, fields, example = "buzzer", "…", (pin("pin", "…"),), "[buzzer.hall]\\npin = 26"

        def driver(self, part): …

    KIND = BuzzerKind()

A chip on a bus, in chip.py: `CHIP = SensorChip(…)`, with `on_bus` for its driver and stand-in. A rule, in rule.py:
`RULE = DesignRule(…)`, or a PinRule or SiteRule. How a bundle is found: `zapato.extensions`; step by step: docs/extending.md.
"""

from __future__ import annotations

from zapato.checks.rule import DesignRule, Incompatibility, PinRule, Rule, SiteRule, device
from zapato.design.design import Design, PinUse
from zapato.extensions import Bundle
from zapato.findings import Finding, Place
from zapato.lang.fields import (
    REQUIRED,
    Field,
    Wrong,
    boolean,
    choice,
    measured,
    names,
    number,
    pin,
    text,
    whole,
)
from zapato.parts.bus_chip import BusChip
from zapato.parts.clock.chip import ClockChip
from zapato.parts.converter.chip import ConverterChip
from zapato.parts.display.chip import DisplayChip
from zapato.parts.expander.chip import ExpanderChip
from zapato.parts.kind import Action, Argument, Driver, Kind, Load, Need, Part, Property, Supplied
from zapato.parts.multiplexer.chip import MultiplexerChip
from zapato.parts.sensors import SensorChip, common, on_bus, quantity
from zapato.parts.simulation import Probe, Simulation, Stimulus, World, WorldInput
from zapato.parts.switched import (
    PULSE,
    SWITCHING,
    active_number,
    drive_need,
    level_simulation,
    on_property,
    start_level,
    switched_pin,
)

__all__ = [
    "PULSE",
    "REQUIRED",
    "SWITCHING",
    "Action",
    "Argument",
    "Bundle",
    "BusChip",
    "ClockChip",
    "ConverterChip",
    "Design",
    "DesignRule",
    "DisplayChip",
    "Driver",
    "ExpanderChip",
    "Field",
    "Finding",
    "Incompatibility",
    "Kind",
    "Load",
    "MultiplexerChip",
    "Need",
    "Part",
    "PinRule",
    "PinUse",
    "Place",
    "Probe",
    "Property",
    "Rule",
    "SensorChip",
    "Simulation",
    "SiteRule",
    "Stimulus",
    "Supplied",
    "World",
    "WorldInput",
    "Wrong",
    "active_number",
    "boolean",
    "choice",
    "common",
    "device",
    "drive_need",
    "level_simulation",
    "measured",
    "names",
    "number",
    "on_bus",
    "on_property",
    "pin",
    "quantity",
    "start_level",
    "switched_pin",
    "text",
    "whole",
]  # fmt: skip
