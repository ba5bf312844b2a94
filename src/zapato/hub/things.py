"""Things read from W3C Thing Descriptions: what they can be read for, set to and told, and on which topics.

What is at a broker may come from anybody, so a description is read with limits, and what cannot be understood is left out.
Sources: W3C Recommendation "Web of Things (WoT) Thing Description 1.1"; W3C "Web of Things (WoT) MQTT Binding".
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import field, replace
from typing import Any, cast
from urllib.parse import unquote, urlsplit

from zapato.lang.json_text import read_json
from zapato.record import record

LARGEST = 1 << 18
"""Bytes of a description at the most."""
MOST = 1000
"""Affordances of one thing at the most."""
LONGEST = 200
"""Characters of a title or a name at the most."""
TYPES = {"boolean": "boolean", "number": "number", "integer": "number", "string": "text"}


@record(frozen=True)
class DataSchema:
    """What a value may be: its type ("boolean", "number", "text", or "" for anything), unit, range and options.

    `above`: the low end itself is not in the range; `whole`: no fractions; `packed`: it comes as a SenML pack.
    """

    type: str = ""
    unit: str = ""
    low: float | None = None
    high: float | None = None
    options: tuple[str, ...] = ()
    above: bool = False
    whole: bool = False
    packed: bool = False

    @property
    def bounds(self) -> str:
        """The range or the options in words; "" where there are none."""
        if self.options:
            return ", ".join(self.options)
        if self.low is not None and self.high is not None:
            return f"{self.low:g} to {self.high:g}"
        if self.low is not None:
            return f"{'more than' if self.above else 'at least'} {self.low:g}"
        return f"at most {self.high:g}" if self.high is not None else ""

    def as_dict(self) -> dict[str, object]:
        row: dict[str, object] = {"type": self.type, "unit": self.unit, "low": self.low, "high": self.high}
        row["options"] = list(self.options)
        return {key: value for key, value in row.items() if value not in ("", None, [])}


@record(frozen=True)
class Affordance:
    """One property, event or action.

    Attributes:
        name: "part.what", as the description has it.
        label: for people.
        value: of a property.
        reads, writes: topics, or ""; what is published goes out with `qos`.
        inputs: what an action takes.
    """

    name: str
    label: str
    value: DataSchema = DataSchema()
    reads: str = ""
    writes: str = ""
    qos: int = 1
    retain: bool = False
    inputs: tuple[DataSchema, ...] = ()


@record(frozen=True)
class Thing:
    """A device as it is described.

    Attributes:
        name: by which it is called here.
        topic: of its description.
        label: for people.
        where: its room or other words.
    """

    name: str
    topic: str
    label: str
    where: str = ""
    version: str = ""
    properties: Mapping[str, Affordance] = field(default_factory=dict[str, Affordance])
    events: Mapping[str, Affordance] = field(default_factory=dict[str, Affordance])
    actions: Mapping[str, Affordance] = field(default_factory=dict[str, Affordance])

    @property
    def filters(self) -> list[str]:
        """What to subscribe to: everything under its own topic, where all is there, else topic by topic."""
        own = self.topic.rpartition("/")[0] + "/"
        filters = dict.fromkeys(prop.reads for prop in (*self.properties.values(), *self.events.values()))
        return [f"{own}#"] if all(filter_.startswith(own) for filter_ in filters) else [*filters, self.topic]


class NoThing(Exception):
    """What was under `about` describes nothing that can be used; the message says why."""


def read_thing(topic: str, payload: bytes) -> Thing:
    """The thing whose description was retained at `topic`. Raises NoThing."""
    if len(payload) > LARGEST:
        raise NoThing(f"a description of {len(payload)} bytes; {LARGEST} is the most")
    try:
        raw: Any = read_json(payload)
    except ValueError:
        raise NoThing("not JSON") from None
    about = _table(raw)
    context = str(about.get("@context", ""))[:1000]
    if "w3.org" not in context or "td" not in context:
        raise NoThing("not a Thing Description")
    levels = topic.split("/")
    title = _text(about.get("title")) or levels[-2 if len(levels) > 1 else 0]
    where = (
        _text(about.get("description")).removeprefix(f"{levels[-2] if len(levels) > 1 else ''}").strip(", ")
    )
    properties = {
        affordance.name: affordance
        for affordance in _affordances(about, "properties")
        if affordance.reads or affordance.writes
    }
    actions = {
        affordance.name: affordance for affordance in _affordances(about, "actions") if affordance.writes
    }
    events = {affordance.name: affordance for affordance in _affordances(about, "events") if affordance.reads}
    version = _text(_table(about.get("version")).get("instance"))
    name = _text(levels[-2] if len(levels) > 1 else topic)
    return Thing(name, topic, title, where, version, properties, events, actions)


def _affordances(about: Mapping[str, Any], group: str) -> Iterable[Affordance]:
    for name, raw in list(_table(about.get(group)).items())[:MOST]:
        table, forms = _table(raw), _forms(raw)
        label, name = _text(table.get("title")) or _text(name), _text(name)
        if group == "properties":
            writes, qos, retain = forms.get("writeproperty", ("", 1, False))
            reads = next((forms[op][0] for op in ("observeproperty", "readproperty") if op in forms), "")
            writes = "" if table.get("readOnly") is True else writes
            value = replace(_value(table), packed="senml" in str(_list(table.get("forms"))[:1])[:500])
            yield Affordance(name, label, value, reads, writes, qos, retain)
        elif group == "events":
            yield Affordance(name, label, reads=forms.get("subscribeevent", ("",))[0])
        else:
            topic, qos, retain = forms.get("invokeaction", ("", 1, False))
            yield Affordance(name, label, writes=topic, qos=qos, retain=retain, inputs=_inputs(table))


def _forms(raw: Any) -> dict[str, tuple[str, int, bool]]:
    """Operation -> its topic, QoS and whether it is retained, of the forms for MQTT."""
    forms: dict[str, tuple[str, int, bool]] = {}
    for raw_form in _list(_table(raw).get("forms"))[:20]:
        form = _table(raw_form)
        ops = form.get("op")
        topic = form.get("mqv:filter") or form.get("mqv:topic") or _in_address(form.get("href"))
        if not isinstance(topic, str) or not 0 < len(topic.encode(errors="replace")) < 512:
            continue
        if any(c in topic for c in "#+\0") or topic.startswith("$") or topic != whole_text(topic):
            continue
        qos = int(str(form.get("mqv:qos")) in ("1", "2"))  # 1 is the most that the hub publishes with
        for op in [ops] if isinstance(ops, str) else _list(ops)[:20]:
            forms.setdefault(str(op), (topic, qos, form.get("mqv:retain") is True))
    return forms


def _in_address(href: Any) -> str:
    """The topic that stands in an address mqtt://broker/topic."""
    try:
        parts = urlsplit(href) if isinstance(href, str) else None
    except ValueError:
        return ""
    return unquote(parts.path[1:]) if parts and parts.scheme in ("mqtt", "mqtts") else ""


def _value(table: Mapping[str, Any]) -> DataSchema:
    for choice in map(_table, _list(table.get("oneOf"))[:10]):  # null, or what it is
        if choice.get("type") != "null":
            table = {**choice, **table}
            break
    options = tuple(option for option in _list(table.get("enum"))[:100] if isinstance(option, str))
    above = "exclusiveMinimum" in table
    return DataSchema(
        TYPES.get(str(table.get("type")), ""),
        _text(table.get("unit"))[:20],
        _number(table.get("exclusiveMinimum" if above else "minimum")),
        _number(table.get("maximum")),
        tuple(map(_text, options)),
        above,
        table.get("type") == "integer",
    )


def _inputs(table: Mapping[str, Any]) -> tuple[DataSchema, ...]:
    given = table.get("input")
    if given is None:
        return ()
    one = _table(given)
    if one.get("type") == "array":
        return tuple(_value(_table(item)) for item in _list(one.get("items"))[:10])
    return (_value(one),)


def _table(raw: Any) -> dict[str, Any]:
    return cast(dict[str, Any], raw) if isinstance(raw, dict) else {}


def _list(raw: Any) -> list[Any]:
    return cast(list[Any], raw) if isinstance(raw, list) else []


def _number(raw: Any) -> float | None:
    return raw if isinstance(raw, (int, float)) and not isinstance(raw, bool) and abs(raw) < 1e15 else None


def whole_text(text: str) -> str:
    """Without half characters: JSON may name them (RFC 8259, 8.2), and no encoding has them."""
    return text.encode("utf-8", "replace").decode()


def _text(raw: Any) -> str:
    """A text of a bearable length that steers no terminal."""
    text = raw if isinstance(raw, str) else ""
    return "".join(c if c.isprintable() else "·" for c in text[:LONGEST])
