"""What the hub knows: things, the values that they said, and who wants to hear of changes.

It neither listens nor waits: whoever has a broker hands it what came, and gets what is to be kept and published.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any, Literal

from zapato.hub.history import Row
from zapato.hub.things import Affordance, NoThing, Thing, read_thing
from zapato.hub.values import NotTaken, Plain, heard, split, spoken, typed
from zapato.lang.fields import nearest

STATE = "state"
"""The property that says whether the thing is there; its text is "online" or "offline"."""
MOST = 10_000
"""Things at the most."""


@dataclass(frozen=True)
class Reading:
    """A value and when it was said, s since 1970; `kept`: no earlier than that is known, for the broker had it already."""

    value: Plain
    at: float
    kept: bool = False


@dataclass(frozen=True)
class Change:
    """Something that happened.

    Attributes:
        what: "value", "event", "thing" (found, or described anew), "gone" (its description was taken away), "alert", "over".
        name: whose; value: the value, or the text of an alert; at: s since 1970.
    """

    what: Literal["value", "event", "thing", "gone", "alert", "over"]
    name: str
    value: Plain
    at: float

    def as_dict(self) -> dict[str, object]:
        return dict(vars(self))


@dataclass(frozen=True)
class Saying:
    """What is to be published."""

    topic: str
    payload: str
    qos: int = 1
    retain: bool = False


class Hub:
    """Things and their values; safe from any thread."""

    def __init__(self, known: Mapping[str, Row] | None = None) -> None:
        self.things: dict[str, Thing] = {}
        self.readings: dict[str, Reading] = {}
        self._known = dict(known or {})
        self._of: dict[str, list[tuple[Thing, Affordance, bool]]] = {}
        self._topics: dict[str, str] = {}
        self._lock = threading.RLock()
        self._listeners: list[Callable[[Change], None]] = []

    # --- what comes

    def hear(self, topic: str, payload: bytes, kept: bool = False, at: float | None = None) -> list[Row]:
        """A message; gives what is to be remembered of it. `kept`: the broker had it already."""
        at = time.time() if at is None else at
        with self._lock:
            if topic.endswith("/about"):
                self._described(topic, payload, at)
            return [row for each in self._of.get(topic, ()) for row in self._said(*each, payload, kept, at)]

    def _described(self, topic: str, payload: bytes, at: float) -> None:
        name = self._topics.get(topic, "")
        try:
            found = read_thing(topic, payload) if payload else None
        except NoThing:
            return
        if found is None:
            if name:
                self._forget(name)
                self.tell(Change("gone", name, None, at))
            return
        if not name:
            if len(self.things) >= MOST:
                return
            name = found.name if found.name not in self.things else "/".join(topic.split("/")[-3:-1])
        if name:
            self._forget(name)
        self._learn(replace(found, name=name))
        self.tell(Change("thing", name, found.label, at))

    def _learn(self, thing: Thing) -> None:
        self.things[thing.name] = thing
        self._topics[thing.topic] = thing.name
        for group, event in ((thing.properties, False), (thing.events, True)):
            for each in group.values():
                if each.reads:
                    self._of.setdefault(each.reads, []).append((thing, each, event))

    def _forget(self, name: str) -> None:
        thing = self.things.pop(name, None)
        for topic in [*self._of] if thing else ():
            self._of[topic] = [each for each in self._of[topic] if each[0] is not thing]
            if not self._of[topic]:
                del self._of[topic]
        if thing:
            self._topics.pop(thing.topic, None)

    def _said(
        self, thing: Thing, what: Affordance, event: bool, payload: bytes, kept: bool, at: float
    ) -> Iterable[Row]:
        name = f"{thing.name}.{what.name}"
        value = heard(what.value, payload)
        if event:
            if not kept:
                self.tell(Change("event", name, value, at))
                yield Row(at, name, value)
            return
        before = self.readings.get(name)
        known = self._known.get(name)
        if kept and before is None and known is not None and known.value == value:
            at, new = known.at, False
        elif kept and before is not None and before.value == value:
            return  # subscribed once more
        else:
            new = True
        self.readings[name] = Reading(value, at, kept and new)
        self.tell(Change("value", name, value, at))
        if new:
            yield Row(at, name, value)

    # --- who wants to hear

    def listen(self, call: Callable[[Change], None]) -> Callable[[], None]:
        """`call` hears of every change, in the thread that it came in; gives what ends that."""
        with self._lock:
            self._listeners.append(call)
        return lambda: self._listeners.remove(call) if call in self._listeners else None

    def tell(self, change: Change) -> None:
        for call in [*self._listeners]:
            call(change)

    # --- what is asked

    def online(self, name: str) -> bool | None:
        """Whether a thing is there; None where it does not say."""
        found = self.readings.get(f"{name}.{STATE}")
        return None if found is None else found.value == "online"

    def types(self) -> dict[str, tuple[str, str]]:
        """The properties of all things, "device.part.property" -> type and unit."""
        with self._lock:
            return {
                f"{thing.name}.{name}": (each.value.type or "text", each.value.unit)
                for thing in self.things.values()
                for name, each in thing.properties.items()
            }

    def table(self, at: float | None = None) -> list[dict[str, Any]]:
        """All things with all that they say and take, as plain data; ages in s."""
        at = time.time() if at is None else at
        with self._lock:
            return [self._row(thing, at) for _, thing in sorted(self.things.items())]

    def _row(self, thing: Thing, at: float) -> dict[str, Any]:
        rows: list[dict[str, Any]] = []
        for name, each in thing.properties.items():
            if name == STATE:
                continue
            reading = self.readings.get(f"{thing.name}.{name}")
            rows.append(
                {"name": name, "label": each.label, "value": reading.value if reading else None}
                | {"at": reading.at if reading else None, "kept": bool(reading and reading.kept)}
                | {"age": max(0.0, round(at - reading.at, 3)) if reading else None}
                | {"settable": bool(each.writes), **each.value.as_dict()}
            )
        actions = [
            {"name": name, "label": each.label, "takes": [one.as_dict() for one in each.inputs]}
            for name, each in thing.actions.items()
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

    def command(self, line: str) -> Saying:
        """What a typed line says: "device.part.property = value" or "device.part.action 2s". Raises NotTaken."""
        name, value, arguments = split(line)
        thing, rest = self._thing(name)
        if value is not None:
            what = self._property(thing, rest)
            return self._written(thing, what, typed(what.value, value, name))
        action = self._action(thing, rest)
        given = [typed(one, text, name) for one, text in zip(action.inputs, arguments, strict=False)]
        return self._called(thing, action, [*given, *arguments[len(action.inputs) :]])

    def write(self, name: str, value: Plain) -> Saying:
        """Set "device.part.property". Raises NotTaken."""
        from zapato.hub.values import checked

        thing, rest = self._thing(name)
        what = self._property(thing, rest)
        return self._written(thing, what, checked(what.value, value, name))

    def invoke(self, name: str, inputs: Iterable[Plain] = ()) -> Saying:
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
        found = thing.properties.get(name)
        if found is None or not found.writes:
            can = [n for n, each in thing.properties.items() if each.writes]
            what = f"{thing.name}.{name} can be read, not set" if found else f"{thing.name} has no {name}"
            near = nearest(name, can) or (f"can be set: {', '.join(can) or 'nothing'}",)
            raise NotTaken(what, near[0])
        return found

    @staticmethod
    def _action(thing: Thing, name: str) -> Affordance:
        found = thing.actions.get(name)
        if found is None:
            near = nearest(name, list(thing.actions)) or (f"it can: {', '.join(thing.actions) or 'nothing'}",)
            raise NotTaken(f"{thing.name} has no action {name}", near[0])
        return found

    def _written(self, thing: Thing, what: Affordance, value: Plain) -> Saying:
        import json

        return Saying(what.writes, json.dumps(value, ensure_ascii=False), what.qos, what.retain)

    def _called(self, thing: Thing, action: Affordance, inputs: list[Plain]) -> Saying:
        return Saying(action.writes, spoken(action, inputs), action.qos, action.retain)


UNITS = {"Cel": "°C", "%RH": "% RH", "Ohm": "Ω", "ug/m3": "µg/m³"}
"""Symbols of the SenML registry that people write otherwise."""


def measured(value: Plain, about: Mapping[str, Any]) -> str:
    """A property's value with its unit, for people; `about` is its row of the table."""
    unit = str(about.get("unit", ""))
    found = shown(value, str(about["name"]))
    return (
        found if value is None or isinstance(value, bool) or not unit else f"{found} {UNITS.get(unit, unit)}"
    )


def shown(value: Plain, name: str = "on") -> str:
    """A value for people; whether something is on is told otherwise than whether it is closed."""
    if value is None:
        return "-"
    if isinstance(value, bool):
        words = ("on", "off") if name.rpartition(".")[2] == "on" else ("yes", "no")
        return words[0] if value else words[1]
    return f"{value:g}" if isinstance(value, float) else str(value)
