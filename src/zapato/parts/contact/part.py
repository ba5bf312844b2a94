"""A contact: a door or window switch, open or closed for long."""

from __future__ import annotations

from zapato.lang.fields import REQUIRED
from zapato.parts.digital import input_bench, input_driver, input_fields, input_need, state_property
from zapato.parts.model import Kind

KIND = Kind(
    terminals={"pin": "one side"},
    name="contact",
    help="a door or window contact",
    fields=input_fields("closed", pull=REQUIRED, active="low", settle="50ms"),
    properties=lambda part: state_property("closed", "the contact is closed"),
    events={"opened": "it opened", "closed": "it closed"},
    needs=lambda part: input_need(part, "low", "a contact that is closed most of the time", usual=True),
    driver=lambda part: input_driver(part, "low", ("closed", "closed", "opened")),
    bench=lambda part: input_bench(part, "low", "closed"),
    wiring=(
        'A reed contact between the pin and ground with `pull = "up"`. `active` is the level of a '
        "closed door: low where the closed contact leads to ground."
    ),
    example='[contact.door]\npin = 32\npull = "up"',
)
