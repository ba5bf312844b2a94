"""Frames of a serial link, described as data: what a part with a controller of its own says and hears."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import cast

from zapato.lang.fields import REQUIRED, Field, Wrong, measured, names, whole
from zapato.lang.patterns import Pattern, Slot, read_pattern
from zapato.lang.senml import read_unit
from zapato.parts.kind import Action, Argument, Driver, Kind, Part, Property
from zapato.parts.reserved import free
from zapato.parts.simulation import PeerAt, Simulation, WorldInput
from zapato.parts.stimuli import ActOnAttached, ReadAttached, SetAttached

FRAME, FIELD = 128, 80
"""Bytes that a frame and a field of it take on the device: tuples of blocks of 16 bytes."""
MOST = 16
"""Frames of one direction at the most."""


def _read_hears(value: object) -> tuple[Pattern, ...]:
    items = cast(list[object], value) if isinstance(value, list) else [value]
    if len(items) > MOST or not all(isinstance(item, str) for item in items):
        raise Wrong(f'takes up to {MOST} frames: ["55 aa {{level:u16*10}} {{sum}}"]')
    patterns = tuple(read_pattern(cast(str, item)) for item in items)
    for slot in (slot for frame in patterns for slot in frame.slots):
        free(slot.name, "frames.Frames")
    return patterns


def _read_says(value: object) -> dict[str, Pattern]:
    table = cast(dict[str, object], value)
    if (
        not isinstance(value, dict)
        or len(table) > MOST
        or not all(isinstance(v, str) for v in table.values())
    ):
        raise Wrong('takes a word and its frame: { level = "55 aa {level:u16*10} {sum}" }')
    for word in table:
        if not word.isidentifier():
            raise Wrong(f"has the word {word}", "a word is letters, digits and _")
    return {word: read_pattern(cast(str, text)) for word, text in table.items()}


def _read_units(value: object) -> dict[str, str]:
    if not isinstance(value, dict):
        raise Wrong('takes a field and its unit: { pm25 = "ug/m3" }')
    return {str(name): read_unit(unit) for name, unit in cast(dict[object, object], value).items()}


def slots(part: Part) -> dict[str, Slot]:
    """The fields that it tells, by name."""
    return {slot.name: slot for frame in hears(part) for slot in frame.slots}


def hears(part: Part) -> tuple[Pattern, ...]:
    """The frames that are understood."""
    return part.get("hears", cast(tuple[Pattern, ...], ()))


def says(part: Part) -> Mapping[str, Pattern]:
    """The frames that can be sent, by word."""
    return part.get("says", {})


def _settable(part: Part, name: str) -> bool:
    pattern = says(part).get(name)
    return pattern is not None and any(slot.name == name for slot in pattern.slots)


def can_say(part: Part, *words: str) -> bool:
    """Whether a part's controller has a frame for one of these words; True for a part on pins of its own."""
    carrier = part.linked.get("serial")
    return carrier is None or any(word in says(carrier) for word in words)


def line_of(part: Part) -> int | None:
    """The pin by which the simulator knows a part's serial line."""
    link = part.linked.get("serial")
    pins = link.pins if link else {}
    at = pins.get("rx") or pins.get("tx")
    return at.gpio if at else None


def enable_of(part: Part) -> int | None:
    """The pin that lets the RS-485 driver of a part's line send."""
    link = part.linked.get("serial")
    return link.pins["enable"].gpio if link and "enable" in link.pins else None


def controller_simulation(part: Part, words: Iterable[str]) -> Simulation:
    """How a part that speaks through frames really stands: as its controller has it."""
    carrier = part.linked.get("serial")
    key = line_of(carrier) if carrier else None
    known = slots(carrier) if carrier else {}
    return (
        Simulation(probes={word: ReadAttached(("serial", key), word) for word in words if word in known})
        if key is not None
        else Simulation()
    )


class FramesKind(Kind):
    """A part with a controller of its own on a serial link, by frames that are described as data."""

    name = "frames"
    called = "controller"
    help = "a part with a controller of its own on a serial link, by frames that are described as data"
    fields = (
        names("serial", "the serial link, [uart.…]", REQUIRED, role="bus"),
        Field(
            "hears",
            _read_hears,
            {"anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}}]},
            'the frames that come: bytes, fields with their scale, a check sum: "55 aa {on:bool} {level:u16*10} {sum}"',
            (),
        ),
        Field(
            "says",
            _read_says,
            {"type": "object", "additionalProperties": {"type": "string"}},
            'the frames that are sent, by word: { level = "55 aa {level:u16*10} {sum}", stop = "55 aa 00 {sum}" }',
            {},
        ),
        Field(
            "hello",
            _read_hears,
            {"type": ["string", "array"]},
            "frames sent once at the start, 100 ms apart",
            (),
        ),
        Field(
            "alive",
            _read_hears,
            {"type": ["string", "array"]},
            "a frame sent again and again, to keep it alive or to ask",
            (),
        ),
        measured("every", "the time between two of them", "time", 10_000, least=100),
        measured(
            "silent", "it counts as silent when nothing was understood for so long", "time", None, least=500
        ),
        Field(
            "units",
            _read_units,
            {"type": "object", "additionalProperties": {"type": "string"}},
            'units of its fields: { pm25 = "ug/m3" }',
            {},
        ),
        whole("skip", "bytes at a frame's beginning that are not in its check sum", 0, least=0, most=8),
    )
    actions = {
        "send": Action(
            (Argument("word", "text"),), help="send the frame of this word", needs="a frame in says"
        )
    }
    wiring = "Nothing of its own: the serial link is wired. What the frames are stands in its controller's data sheet, or is read off the line."
    example = (
        '[uart.line]\ntx = 17\nrx = 16\nbaud = 9600\n\n[frames.lamp]\nserial = "line"\n'
        'hears = "55 aa 07 {on:bool} {level:u16*10} {sum}"\n'
        'says = { level = "55 aa 06 {level:u16*10} {sum}", on = "55 aa 05 {on:bool} {sum}" }'
    )

    def properties(self, part: Part) -> Mapping[str, Property]:
        units: Mapping[str, str] = part.get("units", cast(Mapping[str, str], {}))
        return {
            name: Property(
                "boolean" if slot.truth else "number",
                "" if slot.truth else units.get(name, ""),
                settable=_settable(part, name),
                unknown=True,
                help="as the frames tell it",
            )
            for name, slot in slots(part).items()
        }

    def actions_of(self, part: Part) -> Mapping[str, Action]:
        return self.actions if says(part) else {}

    def argument_of(self, part: Part, argument: Argument) -> Property | None:
        return Property("text", options=tuple(says(part)))

    def driver(self, part: Part) -> Driver | None:
        if "serial" not in part.linked:
            return None
        heard = tuple(frame.plain for frame in hears(part))
        spoken = {word: frame.plain for word, frame in says(part).items()}
        hello = tuple(frame.plain for frame in part.get("hello", ()))
        alive = part.get("alive", ())
        props = tuple(self.properties(part))
        arguments = (
            part.linked["serial"].name,
            heard,
            spoken,
            hello,
            alive[0].plain if alive else None,
            part.get("every", 10_000),
            part.get("silent", 0),
            part.get("skip", 0),
            props,
            tuple(name for name in props if _settable(part, name)),
        )
        patterns = (*hears(part), *says(part).values(), *part.get("hello", ()))
        size = sum(FRAME + FIELD * len(pattern.slots) for pattern in patterns)
        return Driver("frames", "Frames", arguments, data=size)

    def simulation(self, part: Part) -> Simulation:
        key = line_of(part)
        if key is None:
            return Simulation()
        spoken = {**says(part), **{f"hello {n}": frame for n, frame in enumerate(part.get("hello", ()))}}
        if alive := part.get("alive", ()):
            spoken["alive"] = alive[0]
        moves = "position" in slots(part)
        words = (
            "fall_silent",
            "answer",
            "garbage",
            *(("jam", "free", "ignore_stop", "heed_stop") if moves else ()),
        )
        at = ("serial", key)
        return Simulation(
            stimuli={name: SetAttached(at, name) for name in (*slots(part), *(("travel",) if moves else ()))},
            inputs={"travel": WorldInput.number(20, 0, 600)} if moves else {},
            gestures={word: ActOnAttached(at, word) for word in words},
            peers=(
                PeerAt("frames", key, enable_of(part), (part.name, hears(part), spoken, part.get("skip", 0))),
            ),
        )

    def bus(self, part: Part) -> str:
        return "uart"

    def often(self, part: Part) -> Mapping[str, float]:
        return {}


KIND = FramesKind()
