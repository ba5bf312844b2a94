"""What a device says and hears over MQTT, topic by topic (docs/formats.md has the payloads).

A contact has a property `closed` and an event `closed`, which would be one topic: the property is published, the event is not.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict, replace
from typing import Literal

from zapato.design.design import Design, once
from zapato.design.remote_parts import RemotePart
from zapato.lang.senml import KEYS
from zapato.parts.kind import Argument, Part, Property
from zapato.record import record

ITSELF = ("tell", "restart", "settings", "forget", "update")
"""What the device itself can be told."""
Of = Literal["state", "about", "property", "set", "event", "action", "vitals", "notes", "device", "heard"]


@record(frozen=True)
class Topic:
    """One topic.

    Attributes:
        name: whole.
        way: "from" the device or "to" it.
        retained: the broker keeps it.
        qos: of what is published.
        of: what it is.
        part: whose it is; "" for the device.
        what: which property, event or action.
        label: the part's name for people.
        payload: in words.
        example: one that can be pasted.
        type: of the value, where there is one.
        unit: of the value.
        low: the least value.
        high: the highest value.
        options: the values that it can have, where they are words.
        unknown: it is null while nobody knows it.
        arguments: of an action.
        packed: a property goes out as a SenML pack (RFC 8428).
    """

    name: str
    way: Literal["from", "to"]
    of: Of
    payload: str
    example: str
    retained: bool = False
    qos: int = 0
    part: str = ""
    what: str = ""
    label: str = ""
    type: str = ""
    unit: str = ""
    low: float | None = None
    high: float | None = None
    options: tuple[str, ...] = ()
    arguments: tuple[Argument, ...] = ()
    packed: bool = False
    unknown: bool = False

    def as_dict(self) -> dict[str, object]:
        """Plain data; arguments as name and type."""
        arguments = [{"name": argument.name, "type": argument.type} for argument in self.arguments]
        return {**asdict(self), "arguments": arguments}


@once
def topics(design: Design) -> list[Topic]:
    """Every topic of a design; none where it has no broker.

    Examples:
        >>> import zapato
        >>> design = zapato.load("devices/kettle-plug.toml")
        >>> zapato.list_topics(design)[0].name
        'refuge/kettle-plug/state'
    """
    return [*_topics(design)] if design.mqtt is not None else []


def _topics(design: Design) -> Iterator[Topic]:
    about = design.mqtt or {}
    base, qos, packed = design.topic, int(about.get("qos") or 0), about.get("report") == "senml"
    yield Topic(f"{base}/state", "from", "state", "online, offline", "online", True, qos)
    yield Topic(
        f"{base}/about",
        "from",
        "about",
        "W3C Thing Description 1.1, published by deliver --air and fleet --describe",
        "",
        True,
        1,
    )
    for part in design.parts.values():
        yield from topics_of(base, part, qos, packed)
    vitals = '{"uptime": 3600, "signal": -58, "heap": 8000, "version": "1.0.0", "dropped": 0}'
    yield Topic(f"{base}/vitals", "from", "vitals", "uptime, signal, heap, version, dropped", vitals, qos=qos)
    yield Topic(f"{base}/notes", "from", "notes", "text", "broker reached", qos=qos)
    for action in ITSELF:
        payload, example = ("version and seal", "") if action == "update" else ("empty", "")
        yield Topic(f"{base}/device/do/{action}", "to", "device", payload, example, what=action)
    for device in {remote.design.name: remote.design for remote in design.heard.values()}.values():
        yield Topic(f"{device.topic}/state", "to", "heard", "online, offline", "online", part=device.name)
    for heard in design.heard.values():
        yield from _heard(heard)


def _heard(heard: RemotePart) -> Iterator[Topic]:
    """What another device says that this one listens to."""
    packed = (heard.design.mqtt or {}).get("report") == "senml"
    names = {*heard.properties, *heard.events}
    for topic in topics_of(heard.design.topic, heard.part, 0, packed):
        if topic.way == "from" and topic.what in names:
            yield replace(topic, way="to", of="heard", part=heard.name, retained=False)


def topics_of(base: str, part: Part, qos: int, packed: bool = False) -> list[Topic]:
    """The topics of one part under `base`."""
    return [*_of_part(base, part, qos, packed)]


def _of_part(base: str, part: Part, qos: int, packed: bool) -> Iterator[Topic]:
    for name, known in part.properties.items():
        if known.wanted and name not in part.asked:
            continue
        unit = f" in {known.unit}" if known.unit else ""
        payload = known.type + unit + (f": {', '.join(known.options)}" if known.options else "")
        about = {
            "part": part.name, "what": name, "label": part.label, "type": known.type, "unit": known.unit,
            "low": known.low, "high": known.high, "options": known.options,
        }  # fmt: skip
        value = example(known)
        said, shown = f"{base}/{part.name}/{name}", (payload, value)
        if packed:
            shown = (f"SenML pack: {payload}", _pack(said, known, value))
        said_of = {**about, "packed": packed, "unknown": known.unknown}
        yield Topic(said, "from", "property", *shown, True, qos, **said_of)  # type: ignore[arg-type]
        if known.settable:
            yield Topic(f"{base}/{part.name}/{name}/set", "to", "set", payload, value, **about)  # type: ignore[arg-type]
    for event in part.kind.events:
        if event not in part.properties:
            yield Topic(
                f"{base}/{part.name}/{event}",
                "from",
                "event",
                "JSON" if event in part.kind.says else '{}, or {"ago": s} where it waited for the broker',
                part.kind.says.get(event, "{}"),
                qos=qos,
                part=part.name,
                what=event,
                label=part.label,
            )
    for action, about in part.kind.actions_of(part).items():
        words = ", ".join(
            f"{argument.name} ({'s' if argument.type == 'time' else argument.type})"
            for argument in about.arguments
        )
        given = [_argument(part, argument) for argument in about.arguments]
        text = "" if not given else given[0] if len(given) == 1 else f"[{', '.join(given)}]"
        yield Topic(
            f"{base}/{part.name}/do/{action}", "to", "action", words or "empty", text, part=part.name, what=action,
            label=part.label, arguments=about.arguments,
        )  # fmt: skip


USUAL = {
    "Cel": 21.5, "%RH": 45, "lx": 300, "V": 12.1, "A": 0.35, "W": 60, "Pa": 95300, "hPa": 953, "ppm": 640, "m": 1.2,
    "dB": -42, "1/s": 2.5, "kWh": 128.4, "Wh": 1200, "l": 350, "s": 90, "Hz": 50,
}  # fmt: skip
"""Values that could be true, by unit."""


def example(known: Property) -> str:
    """A value of this property as JSON."""
    if known.options:
        return f'"{known.options[0]}"'
    if known.type == "boolean":
        return "true"
    if known.type == "text":
        if "rrggbb" in known.help:
            return '"#ff8000"'
        return (
            '"0x23"'
            if "address" in known.help
            else '"28ff641e0f43c451"'
            if "serial" in known.help
            else '"a3f012"'
            if "six hexadecimal" in known.help
            else '"text"'
        )
    low, high = known.low, known.high
    usual = USUAL.get(known.unit)
    if usual is not None and (low is None or low <= usual) and (high is None or usual <= high):
        return f"{usual:g}"
    middle = (
        (low + high) / 2 if low is not None and high is not None else low if low is not None else high or 21.5
    )
    return f"{middle:g}"


def _pack(topic: str, known: Property, value: str) -> str:
    """A SenML pack of one record, as the device sends it."""
    unit = f', "u": "{known.unit}"' if known.unit else ""
    return f'[{{"n": "{topic}"{unit}, "{KEYS[known.type]}": {value}}}]'


def _argument(part: Part, argument: Argument) -> str:
    if argument.type == "time":
        return "2"
    known = part.kind.argument_of(part, argument)
    return example(known) if known else {"boolean": "true", "number": "1", "text": '"text"'}[argument.type]
