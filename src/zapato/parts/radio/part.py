"""The chip's Bluetooth LE radio as a listener: who advertises nearby, and what of that is passed on."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import cast

from zapato.lang.fields import Field, Wrong, boolean, measured, whole
from zapato.parts.kind import Action, Driver, Kind, Part, Property, ScanEntry
from zapato.parts.scans import on_radio
from zapato.parts.simulation import Simulation
from zapato.regex import regex

_ADDRESS = regex(r"[0-9a-f]{2}(?::[0-9a-f]{2}){5}")
_BEGIN = regex(r"[0-9a-f]{2}(?::[0-9a-f]{2}){0,5}")


def read_address(value: object) -> str:
    """A device address, "a4:c1:38:00:00:01". Raises Wrong."""
    text = value.lower().replace("-", ":") if isinstance(value, str) else ""
    if not _ADDRESS.fullmatch(text):
        raise Wrong(
            "takes an address of six bytes: a4:c1:38:00:00:01", "zapato heard DEVICE lists what its radio met"
        )
    return text


def _read_only(value: object) -> tuple[str, ...]:
    items = cast(list[object], value) if isinstance(value, list) else [value]
    texts = [item.lower().replace("-", ":") if isinstance(item, str) else "" for item in items]
    if not all(_BEGIN.fullmatch(text) for text in texts):
        raise Wrong('takes addresses, or how they begin: ["a4:c1:38"]')
    return tuple(texts)


class RadioKind(Kind):
    """The chip's Bluetooth LE radio: beacons and battery sensors that advertise."""

    name = "radio"
    help = "the chip's Bluetooth LE radio: beacons and battery sensors that advertise"
    fields = (
        whole("weakest", "what is heard more weakly than this is left out, dBm", -100, least=-120, most=0),
        boolean("passes", "pass on what is heard over MQTT, as <part>/heard", False),
        Field(
            "only",
            _read_only,
            {"type": ["string", "array"]},
            "pass on only these addresses, or those that begin so",
            (),
        ),
        measured("apart", "the same address is passed on no more often", "time", 10_000, least=100),
        whole("most", "messages a second at the most, over all addresses", 5, least=1, most=50),
    )
    events = {"heard": "something was passed on"}
    actions = {
        "scan": Action(help="say who was heard; for ten seconds what each says goes out as <part>/heard")
    }
    says = {"heard": '{"address": "a4:c1:38:00:00:01", "strength": -67, "data": "0201060816"}'}
    wiring = "Nothing to wire: the antenna is the board's. Wi-Fi and Bluetooth share it, so a beacon may be missed now and then."
    example = "[radio.air]\nweakest = -85"

    def properties(self, part: Part) -> Mapping[str, Property]:
        return {
            "found": Property("text", unknown=True, help="the addresses that were heard, strongest first"),
            "left_out": Property("number", "count", help="what was not passed on, or came too fast"),
        }

    def driver(self, part: Part) -> Driver:
        only = tuple(bytes.fromhex(prefix.replace(":", "")) for prefix in part.get("only", ()))
        given = (
            part.get("weakest", -100),
            bool(part.get("passes", False)),
            only,
            part.get("apart", 10_000),
            part.get("most", 5),
        )
        return Driver("radio", "Radio", given, data=600)

    def simulation(self, part: Part) -> Simulation:
        return Simulation()

    def sights(self, part: Part, text: str) -> Iterable[ScanEntry]:
        return on_radio(part, text)

    def often(self, part: Part) -> Mapping[str, float]:
        return {"heard": 1000 / part.get("most", 5)} if part.get("passes", False) else {}


KIND = RadioKind()
