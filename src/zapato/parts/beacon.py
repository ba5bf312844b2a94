"""Something that advertises over Bluetooth LE: a tag that is near or not, a thermometer on a battery."""

from __future__ import annotations

from collections.abc import Mapping

from zapato.lang.fields import REQUIRED, Field, measured, names
from zapato.lang.patterns import Pattern, read_pattern
from zapato.parts.model import Bench, Driver, Kind, Part, Property
from zapato.parts.radio import read_address


def _read_data(value: object) -> Pattern:
    from zapato.lang.fields import Wrong

    if not isinstance(value, str):
        raise Wrong('takes a pattern: "16 1a18 {temperature:s16le*100}"')
    return read_pattern(value)


def _properties(part: Part) -> Mapping[str, Property]:
    data: Pattern | None = part.values.get("data")
    found = {
        "near": Property("boolean", help="it was heard lately"),
        "strength": Property("number", "dBm", unknown=True, help="how strongly it was heard last, to 5 dB"),
    }
    for slot in data.slots if data else ():
        found[slot.name] = Property(
            "boolean" if slot.truth else "number", unknown=True, help="as its advertisements tell it"
        )
    return found


def _driver(part: Part) -> Driver | None:
    if "radio" not in part.linked:
        return None
    data: Pattern | None = part.values.get("data")
    address = bytes.fromhex(part.get("address", "").replace(":", ""))
    slots = tuple(slot.name for slot in data.slots) if data else ()
    given = (
        part.linked["radio"].name,
        address,
        data.plain if data else None,
        part.get("gone", 60_000),
        ("near", "strength", *slots),
    )
    return Driver("beacon", "Beacon", given, ("slots",))


def _bench(part: Part) -> Bench:
    data: Pattern | None = part.values.get("data")
    words = (
        ("near", "strength", *(slot.name for slot in data.slots if data)) if data else ("near", "strength")
    )
    return Bench(
        sets={word: ["beacon", part.get("address", ""), word] for word in words},
        beacons=((part.get("address", ""), data),),
    )


KIND = Kind(
    name="beacon",
    help="something that advertises over Bluetooth LE: a tag that is near or not, a thermometer on a battery",
    fields=(
        names("radio", "the radio that listens, [radio.…]", REQUIRED, role="bus"),
        Field("address", read_address, {"type": "string"}, "its address", REQUIRED),
        Field(
            "data",
            _read_data,
            {"type": "string"},
            'which bytes of its advertisement are what, from the type of the structure on: "16 1a18 {temperature:s16le*100} {humidity:u16le*100}"',
            None,
        ),
        measured("gone", "it counts as gone when it was not heard for so long", "time", 60_000, least=1000),
    ),
    properties=_properties,
    told_by="address",
    driver=_driver,
    bench=_bench,
    bus=lambda part: "radio",
    wiring="Nothing to wire; a few metres and a wall at the most.",
    example='[radio.air]\n\n[beacon.fridge]\nradio = "air"\naddress = "a4:c1:38:00:00:01"\ndata = "16 1a18 {temperature:s16le*100} {humidity:u16le*100}"',
)  # fmt: skip
