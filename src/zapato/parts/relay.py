"""A relay: a contact that the board opens and closes."""

from __future__ import annotations

from collections.abc import Iterable

from zapato.lang.fields import names
from zapato.parts.model import Driver, Kind, Need, Part
from zapato.parts.switched import (
    PULSE,
    SWITCHING,
    active_number,
    drive_need,
    level_bench,
    on_property,
    start_level,
    switched_pin,
)


def _needs(part: Part) -> Iterable[Need]:
    if active_number(part):
        return drive_need(part, "a relay driver whose input is loaded to ground", clicks=True)
    return drive_need(part, "a relay board whose input is pulled up to its supply", clicks=True)


def _driver(part: Part) -> Driver:
    gpio, active = part.at("pin"), active_number(part)
    keeps = part.get("start", "off") == "last"
    starts_on = start_level(part) == active
    excludes = tuple(sorted(p.name for key, p in part.linked.items() if key.startswith("excludes.")))
    arguments = (gpio, active, starts_on, excludes)
    if keeps:
        return Driver("relay_kept", "KeptRelay", arguments, ("relay", "store"))
    return Driver("relay", "Relay", arguments)


KIND = Kind(
    name="relay",
    help="a contact that the board opens and closes",
    fields=(
        *switched_pin("the relay"),
        names("excludes", "relays that must be open while this one is closed"),
    ),
    properties=on_property,
    actions={**SWITCHING, "pulse": PULSE},
    needs=_needs,
    driver=_driver,
    bench=level_bench,
    example='[relay.heater]\npin = 26\nstart = "off"',
)
