"""What the hub knows: things, the values that they said, and who wants to hear of changes.

It neither listens nor waits: whoever has a broker hands it what came, and gets what is to be kept and published.
"""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Callable, Iterable, Mapping
from dataclasses import replace
from typing import Any, Literal

from zapato.hub.history import HistoryRow
from zapato.hub.things import Affordance, NoThing, Thing, read_thing
from zapato.hub.values import NotTaken, Plain, checked, heard, since_event, split, spoken, typed
from zapato.lang.fields import nearest
from zapato.record import record

STATE = "state"
"""The property that says whether the thing is there; its text is "online" or "offline"."""
ABOUT = "/about"
"""How the topic of a description ends."""
MOST = 10_000
"""Things at the most."""
PAGE = 60
"""Things on one page."""


@record(frozen=True)
class Reading:
    """A value and when it was said, s since 1970; `retained`: no earlier than that is known, for the broker had it already."""

    value: Plain
    at: float
    retained: bool = False


@record(frozen=True)
class HubEvent:
    """Something that happened.

    Attributes:
        what: "value", "event", "thing" (found, or described anew), "gone" (its description was taken away), "alert", "over".
        name: whose.
        value: the value, or the text of an alert.
        at: s since 1970.
    """

    what: Literal["value", "event", "thing", "gone", "alert", "over"]
    name: str
    value: Plain
    at: float

    def as_dict(self) -> dict[str, object]:
        return dict(vars(self))


@record(frozen=True)
class OutgoingMessage:
    """What is to be published."""

    topic: str
    payload: str
    qos: int = 1
    retain: bool = False


class Hub:
    """Things and their values; safe from any thread."""

    def __init__(self, known: Mapping[str, HistoryRow] | None = None) -> None:
        self.things: dict[str, Thing] = {}
        self.readings: dict[str, Reading] = {}
        self.heard: dict[str, float] = {}
        """When a thing last said anything, by name."""
        self._known = dict(known or {})
        self._of: dict[str, list[tuple[Thing, Affordance, bool]]] = {}
        self._topics: dict[str, str] = {}
        self._words: dict[str, str] = {}
        """What a thing is found by, in lower case."""
        self._ranks: dict[str, int] = {}
        """Where a thing stands in the list, by `_rank`: kept, because ten thousand are too many to ask at each look."""
        self._order: list[str] | None = []
        """The names in order; None where a thing came or went since."""
        self._lock = threading.RLock()
        self._listeners: list[Callable[[HubEvent], None]] = []

    # --- what comes

    def hear(
        self, topic: str, payload: bytes, retained: bool = False, at: float | None = None
    ) -> list[HistoryRow]:
        """A message; gives what is to be remembered of it. `retained`: the broker had it already."""
        at = time.time() if at is None else at
        with self._lock:
            if topic.endswith(ABOUT):
                self.describe(topic, payload, at)
                return []
            if not retained:
                self._sign_of_life(topic, payload, at)
            return [
                row
                for listener in self._of.get(topic, ())
                for row in self._said(*listener, payload, retained, at)
            ]

    def describe(self, topic: str, payload: bytes, at: float | None = None) -> bool:
        """A description, or an empty one in place of it; False where it changes nothing, or is none."""
        at = time.time() if at is None else at
        with self._lock:
            name = self._topics.get(topic, "")
            if not payload:
                self._forget(name)
                if name:
                    self.tell(HubEvent("gone", name, None, at))
                return bool(name)
            try:
                thing = read_thing(topic, payload)
            except NoThing:
                return False
            thing = replace(thing, name=name or self._free(thing))
            if (not name and len(self.things) >= MOST) or self.things.get(thing.name) == thing:
                return False
            self._forget(name)
            self._learn(thing)
            self.tell(HubEvent("thing", thing.name, thing.label, at))
            return True

    def described(self, topic: str) -> Thing | None:
        """The thing whose description is at this topic."""
        return self.things.get(self._topics.get(topic, ""))

    def _free(self, thing: Thing) -> str:
        """A name that no other thing has: its own, or more of its topic."""
        base = thing.topic.removesuffix(ABOUT)
        return next(
            name
            for name in (thing.name, "/".join(base.split("/")[-2:]), base, thing.topic)
            if name not in self.things
        )

    def _learn(self, thing: Thing) -> None:
        self.things[thing.name] = thing
        self._topics[thing.topic] = thing.name
        said = (f"{name} {prop.label}" for name, prop in thing.properties.items())
        self._words[thing.name] = " ".join((thing.name, thing.label, thing.where, *said)).lower()
        self._ranks[thing.name], self._order = self._rank(thing.name), None
        for entry, event in _heard(thing):
            self._of.setdefault(entry.reads, []).append((thing, entry, event))

    def _forget(self, name: str) -> None:
        thing = self.things.pop(name, None)
        if thing is None:
            return
        self._topics.pop(thing.topic, None)
        self._words.pop(name, None)
        self._ranks.pop(name, None)
        self._order = None
        for topic in {affordance.reads for affordance, _ in _heard(thing)}:
            self._of[topic] = [entry for entry in self._of[topic] if entry[0] is not thing]
            if not self._of[topic]:
                del self._of[topic]

    def _sign_of_life(self, topic: str, payload: bytes, at: float) -> None:
        """Whatever a thing says under its own topic shows that it is alive; its will, and what is said to it, do not."""
        if (
            topic.endswith("/set")
            or "/do/" in topic
            or (topic.endswith(f"/{STATE}") and payload != b"online")
        ):
            return
        base = topic
        while "/" in base:
            base = base.rpartition("/")[0]
            if name := self._topics.get(base + ABOUT):
                fresh = name not in self.heard
                self.heard[name] = at
                if fresh:
                    self._ranks[name] = self._rank(name)
                return

    def _said(
        self, thing: Thing, what: Affordance, event: bool, payload: bytes, retained: bool, at: float
    ) -> Iterable[HistoryRow]:
        name = f"{thing.name}.{what.name}"
        value = heard(what.value, payload)
        if event:
            if not retained:
                began = at - since_event(payload)
                self.tell(HubEvent("event", name, value, began))
                yield HistoryRow(began, name, value)
            return
        before = self.readings.get(name)
        known = self._known.get(name)
        if retained and before is None and known is not None and known.value == value:
            at, new = known.at, False
        elif retained and before is not None and before.value == value:
            return  # subscribed once more
        else:
            new = True
        self.readings[name] = Reading(value, at, retained and new)
        if what.name == STATE:
            self._ranks[thing.name] = self._rank(thing.name)
        self.tell(HubEvent("value", name, value, at))
        if new:
            yield HistoryRow(at, name, value)

    # --- who wants to hear

    def listen(self, call: Callable[[HubEvent], None]) -> Callable[[], None]:
        """`call` hears of every change, in the thread that it came in; gives what ends that."""
        with self._lock:
            self._listeners.append(call)
        return lambda: self._listeners.remove(call) if call in self._listeners else None

    def tell(self, change: HubEvent) -> None:
        """Tell every listener; one that raises is removed, so that it cannot end the hub."""
        for call in [*self._listeners]:
            try:
                call(change)
            except Exception:
                self._listeners.remove(call)

    # --- what is asked

    def online(self, name: str) -> bool | None:
        """Whether a thing is there; None where it does not say."""
        reading = self.readings.get(f"{name}.{STATE}")
        return None if reading is None else reading.value == "online"

    def types(self) -> dict[str, tuple[str, str]]:
        """The properties of all things, "device.part.property" -> type and unit."""
        with self._lock:
            return {
                f"{thing.name}.{name}": (prop.value.type or "text", prop.value.unit)
                for thing in self.things.values()
                for name, prop in thing.properties.items()
            }

    def table(self, at: float | None = None) -> list[dict[str, Any]]:
        """All things with all that they say and take, as plain data; ages in s."""
        at = time.time() if at is None else at
        with self._lock:
            return [self._row(thing, at) for _, thing in sorted(self.things.items())]

    def page(self, find: str = "", number: int = 0, size: int = PAGE) -> dict[str, Any]:
        """One page of the things whose words have `find` in them, those that are there first; with how many there are of them."""
        at, wanted = time.time(), find.lower()
        with self._lock:
            if self._order is None:
                self._order = sorted(self.things)
            ranks = self._ranks
            names = [name for name in self._order if wanted in self._words[name]] if wanted else self._order
            names = sorted(names, key=ranks.__getitem__)
            pages = max(1, -(-len(names) // size))
            number = min(max(0, number), pages - 1)
            shown = names[number * size : (number + 1) * size]
            return {
                "things": [self._row(self.things[name], at) for name in shown],
                "found": len(names),
                "all": len(ranks),
                "there": list(ranks.values()).count(0),
                "page": number,
                "pages": pages,
            }

    def figures(self) -> list[tuple[str, str, str, float]]:
        """Every last value that is a number or a truth: device, property, unit, number."""
        with self._lock:
            return [
                (thing.name, name, prop.value.unit, float(reading.value))
                for thing in self.things.values()
                for name, prop in thing.properties.items()
                if (reading := self.readings.get(f"{thing.name}.{name}")) is not None
                and isinstance(reading.value, (bool, int, float))
            ]

    def presence(self) -> list[tuple[str, bool | None, float | None]]:
        """Every device, whether it is there, and when it last said anything (s since 1970)."""
        with self._lock:
            return [(name, self.online(name), self.heard.get(name)) for name in self.things]

    def _rank(self, name: str) -> int:
        """0 for what is there, then what does not say it but was heard, what is away, what was never heard."""
        there = self.online(name)
        if there is None:
            return 1 if name in self.heard else 3
        return 0 if there else 2

    def _row(self, thing: Thing, at: float) -> dict[str, Any]:
        rows: list[dict[str, Any]] = []
        for name, prop in thing.properties.items():
            if name == STATE:
                continue
            reading = self.readings.get(f"{thing.name}.{name}")
            rows.append(
                {"name": name, "label": prop.label, "value": reading.value if reading else None}
                | {"at": reading.at if reading else None, "kept": bool(reading and reading.retained)}
                | {"age": max(0.0, round(at - reading.at, 3)) if reading else None}
                | {"settable": bool(prop.writes), **prop.value.as_dict()}
            )
        actions = [
            {"name": name, "label": action.label, "takes": [one.as_dict() for one in action.inputs]}
            for name, action in thing.actions.items()
        ]
        return {
            "name": thing.name,
            "label": thing.label,
            "where": thing.where,
            "version": thing.version,
            "online": self.online(thing.name),
            "properties": rows,
            "actions": actions,
        }

    # --- what is said

    def command(self, line: str) -> OutgoingMessage:
        """What a typed line says: "device.part.property = value" or "device.part.action 2s". Raises NotTaken."""
        name, value, arguments = split(line)
        thing, rest = self._thing(name)
        if value is not None:
            what = self._property(thing, rest)
            return self._written(thing, what, typed(what.value, value, name))
        action = self._action(thing, rest)
        given = [typed(one, text, name) for one, text in zip(action.inputs, arguments, strict=False)]
        return self._called(thing, action, [*given, *arguments[len(action.inputs) :]])

    def write(self, name: str, value: Plain) -> OutgoingMessage:
        """Set "device.part.property". Raises NotTaken."""
        thing, rest = self._thing(name)
        what = self._property(thing, rest)
        return self._written(thing, what, checked(what.value, value, name))

    def invoke(self, name: str, inputs: Iterable[Plain] = ()) -> OutgoingMessage:
        """Call "device.part.action" with values. Raises NotTaken."""
        thing, rest = self._thing(name)
        return self._called(thing, self._action(thing, rest), [*inputs])

    def _thing(self, name: str) -> tuple[Thing, str]:
        with self._lock:
            head, _, rest = name.partition(".")
            thing = self.things.get(head)
            if thing is None:
                near = nearest(head, list(self.things)) or (
                    f"there are: {', '.join(self.things) or 'none yet'}",
                )
                raise NotTaken(f"no device is called {head}", near[0])
            return thing, rest

    @staticmethod
    def _property(thing: Thing, name: str) -> Affordance:
        affordance = thing.properties.get(name)
        if affordance is None or not affordance.writes:
            can = [n for n, prop in thing.properties.items() if prop.writes]
            what = (
                f"{thing.name}.{name} can be read, not set" if affordance else f"{thing.name} has no {name}"
            )
            near = nearest(name, can) or (f"can be set: {', '.join(can) or 'nothing'}",)
            raise NotTaken(what, near[0])
        return affordance

    @staticmethod
    def _action(thing: Thing, name: str) -> Affordance:
        affordance = thing.actions.get(name)
        if affordance is None:
            near = nearest(name, list(thing.actions)) or (f"it can: {', '.join(thing.actions) or 'nothing'}",)
            raise NotTaken(f"{thing.name} has no action {name}", near[0])
        return affordance

    def _written(self, thing: Thing, what: Affordance, value: Plain) -> OutgoingMessage:
        return OutgoingMessage(what.writes, json.dumps(value, ensure_ascii=False), what.qos, what.retain)

    def _called(self, thing: Thing, action: Affordance, inputs: list[Plain]) -> OutgoingMessage:
        return OutgoingMessage(action.writes, spoken(action, inputs), action.qos, action.retain)


def _heard(thing: Thing) -> list[tuple[Affordance, bool]]:
    """What a thing says on topics: properties, and events (True)."""
    properties = [(prop, False) for prop in thing.properties.values() if prop.reads]
    return properties + [(event, True) for event in thing.events.values() if event.reads]


UNITS = {"Cel": "°C", "%RH": "% RH", "Ohm": "Ω", "ug/m3": "µg/m³"}
"""Symbols of the SenML registry that people write otherwise."""


def measured(value: Plain, about: Mapping[str, Any]) -> str:
    """A property's value with its unit, for people; `about` is its row of the table."""
    unit = str(about.get("unit", ""))
    text = shown(value, str(about["name"]))
    return text if value is None or isinstance(value, bool) or not unit else f"{text} {UNITS.get(unit, unit)}"


TRUTHS = {
    "on": ("off", "on"),
    "closed": ("open", "closed"),
    "down": ("not pressed", "pressed"),
    "present": ("nobody", "somebody"),
}
"""What people say for false and true, by the name of the property."""


def shown(value: Plain, name: str = "on") -> str:
    """A value for people; whether something is on is told otherwise than whether it is closed."""
    if value is None:
        return "-"
    if isinstance(value, bool):
        return TRUTHS.get(name.rpartition(".")[2], ("no", "yes"))[value]
    return f"{value:g}" if isinstance(value, float) else str(value)
