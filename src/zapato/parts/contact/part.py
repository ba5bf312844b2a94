"""A contact: a door or window switch, open or closed for long."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from zapato.lang.fields import REQUIRED
from zapato.parts.digital import input_driver, input_fields, input_need, input_simulation, state_property
from zapato.parts.kind import Driver, Kind, Need, Part, Property
from zapato.parts.simulation import Simulation


class ContactKind(Kind):
    """A door or window contact."""

    terminals = {"pin": "one side"}
    name = "contact"
    help = "a door or window contact"
    fields = input_fields("closed", pull=REQUIRED, active="low", settle="50ms")
    events = {"opened": "it opened", "closed": "it closed"}
    wiring = (
        'A reed contact between the pin and ground with `pull = "up"`. `active` is the level of a '
        "closed door: low where the closed contact leads to ground."
    )
    example = '[contact.door]\npin = 32\npull = "up"'

    def properties(self, part: Part) -> Mapping[str, Property]:
        return state_property("closed", "the contact is closed")

    def needs(self, part: Part) -> Iterable[Need]:
        return input_need(part, "low", "a contact that is closed most of the time", usual=True)

    def driver(self, part: Part) -> Driver | None:
        return input_driver(part, "low", ("closed", "closed", "opened"))

    def simulation(self, part: Part) -> Simulation:
        return input_simulation(part, "low", "closed")


KIND = ContactKind()
