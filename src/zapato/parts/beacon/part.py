"""Something that advertises over Bluetooth LE: a tag that is near or not, a thermometer on a battery."""

from __future__ import annotations

from collections.abc import Mapping
from typing import cast

from zapato.lang.fields import REQUIRED, Field, measured, names
from zapato.lang.patterns import Pattern, Slot, read_pattern
from zapato.parts.kind import Driver, Kind, Part, Property
from zapato.parts.radio.part import read_address
from zapato.parts.reserved import free
from zapato.parts.simulation import Simulation
from zapato.parts.stimuli import SetAttached

MOST = 8
"""Patterns of one beacon at the most."""


def _read_data(value: object) -> tuple[Pattern, ...]:
    """One pattern, or a list of those that it sends in turns. Raises Wrong."""
    from zapato.lang.fields import Wrong

    items = cast(list[object], value) if isinstance(value, list) else [value]
    texts = [item for item in items if isinstance(item, str)]
    if not texts or len(texts) != len(items) or len(texts) > MOST:
        raise Wrong(f'takes a pattern, or up to {MOST} in a list: "16 1a18 {{temperature:s16le*100}}"')
    patterns = tuple(read_pattern(text) for text in texts)
    for slot in (slot for pattern in patterns for slot in pattern.slots):
        free(slot.name, "beacon.Beacon")
    truths = {(slot.name, slot.truth) for pattern in patterns for slot in pattern.slots}
    if both := sorted(name for name, truth in truths if truth and (name, False) in truths):
        raise Wrong(f"has {both[0]} once as a truth and once as a number")
    return patterns


def _slots(part: Part) -> tuple[Slot, ...]:
    """The fields of all its patterns, each name once."""
    patterns = cast(tuple[Pattern, ...], part.get("data", ()))
    slots: dict[str, Slot] = {}
    for pattern in patterns:
        for slot in pattern.slots:
            slots.setdefault(slot.name, slot)
    return tuple(slots.values())


class BeaconKind(Kind):
    """Something that advertises over Bluetooth LE: a tag that is near or not, a thermometer on a battery."""

    name = "beacon"
    help = (
        "something that advertises over Bluetooth LE: a tag that is near or not, a thermometer on a battery"
    )
    fields = (
        names("radio", "the radio that listens, [radio.…]", REQUIRED, role="bus"),
        Field("address", read_address, {"type": "string"}, "its address", REQUIRED),
        Field(
            "data",
            _read_data,
            {"type": ["string", "array"]},
            'which bytes of its advertisement are what, from the type of the structure on: "16 1a18 {temperature:s16le*100} {humidity:u16le*100}"; a list where it sends several in turns',
            (),
        ),
        measured("gone", "it counts as gone when it was not heard for so long", "time", 60_000, least=1000),
    )
    identified_by = "address"
    wiring = "Nothing to wire; a few metres and a wall at the most."
    example = '[radio.air]\n\n[beacon.fridge]\nradio = "air"\naddress = "a4:c1:38:00:00:01"\ndata = "16 1a18 {temperature:s16le*100} {humidity:u16le*100}"'

    def properties(self, part: Part) -> Mapping[str, Property]:
        properties = {
            "near": Property("boolean", help="it was heard lately"),
            "strength": Property(
                "number", "dBm", unknown=True, help="signal strength of the last advertisement, to 5 dB"
            ),
        }
        for slot in _slots(part):
            properties[slot.name] = Property(
                "boolean" if slot.truth else "number", unknown=True, help="as its advertisements tell it"
            )
        return properties

    def driver(self, part: Part) -> Driver | None:
        if "radio" not in part.linked:
            return None
        address = bytes.fromhex(part.get("address", "").replace(":", ""))
        given = (
            part.linked["radio"].name,
            address,
            tuple(pattern.plain for pattern in part.get("data", ())),
            part.get("gone", 60_000),
            ("near", "strength", *(slot.name for slot in _slots(part))),
        )
        return Driver("beacon", "Beacon", given)

    def simulation(self, part: Part) -> Simulation:
        words = ("near", "strength", *(slot.name for slot in _slots(part)))
        return Simulation(
            stimuli={word: SetAttached(("beacon", part.get("address", "")), word) for word in words},
            beacons=((part.get("address", ""), part.get("data", ())),),
        )

    def bus(self, part: Part) -> str:
        return "radio"


KIND = BeaconKind()
