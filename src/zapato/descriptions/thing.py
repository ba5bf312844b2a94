"""The device as a W3C Thing Description 1.1, with forms of the W3C MQTT binding.

Sources: W3C Recommendation "Web of Things (WoT) Thing Description 1.1", 5 December 2023; W3C "Web of Things (WoT) MQTT
Binding" for the terms mqv:controlPacket, mqv:topic, mqv:filter, mqv:qos, mqv:retain. The topic stands in the address, too: there are
clients that look for it there.

A topic stands twice in a form, in `mqv:topic` and in the address: there are clients that look only there.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any
from uuid import NAMESPACE_URL, uuid5

from zapato.descriptions.schemas import input_schema, value_schema
from zapato.design import Design
from zapato.lang.source import table
from zapato.lang.tables import MqttTable, broker_port
from zapato.topics import Topic, topics

CONTEXT: list[Any] = ["https://www.w3.org/2022/wot/td/v1.1", {"mqv": "http://www.example.org/mqtt-binding#"}]
JSON, TEXT, SENML = "application/json", "text/plain", "application/senml+json"


def thing(design: Design) -> dict[str, Any]:
    """The Thing Description of a design; without affordances where it has no broker. No secret is in it."""
    description: dict[str, Any] = {
        "@context": CONTEXT,
        "id": f"urn:uuid:{uuid5(NAMESPACE_URL, f'zapato:{design.topic}')}",
        "title": design.label or design.name,
        "description": f"{design.name}{f', {design.room}' if design.room else ''}",
        "version": {"instance": design.version},
        "securityDefinitions": {"login": {"scheme": "basic", "in": "auto"}, "open": {"scheme": "nosec"}},
        "security": ["login" if (design.mqtt or {}).get("user") else "open"],
    }
    return description | affordances(topics(design), broker(design))


def affordances(device_topics: Sequence[Topic], at: str) -> dict[str, Any]:
    """Properties, actions and events for these topics of a broker; groups of which there are none are left out."""
    properties: dict[str, Any] = {}
    actions: dict[str, Any] = {}
    events: dict[str, Any] = {}
    writable = {(t.part, t.what): t for t in device_topics if t.of == "set"}
    for topic in device_topics:
        key = f"{topic.part}.{topic.what}"
        if topic.of == "property":
            properties[key] = _property(topic, writable.get((topic.part, topic.what)), at)
        elif topic.of == "event":
            events[key] = {
                "title": f"{topic.label}: {topic.what}",
                "data": {"type": "object"},
                "forms": [_heard(topic, at, "event")],
            }
        elif topic.of == "action":
            actions[key] = _action(topic, at)
        elif topic.of == "state":
            properties["state"] = {
                "title": "On the broker", "type": "string", "enum": ["online", "offline"], "readOnly": True, "observable": True,
                "forms": [_heard(topic, at, "property", TEXT)],
            }  # fmt: skip
    groups = (("properties", properties), ("actions", actions), ("events", events))
    return {name: group for name, group in groups if group}


def broker(design: Design) -> str:
    """Where the broker is, as a URI; a host that is a secret is not told."""
    about = design.mqtt or MqttTable()
    documents = (design.document, *([design.site.document] if design.site.document else []))
    raw = next(
        (table(document.data, "mqtt") for document in documents if "mqtt" in document.data), dict[str, Any]()
    )
    host = about.get("host") if isinstance(raw.get("host"), str) else None
    return f"{'mqtts' if about.get('tls') else 'mqtt'}://{host or 'broker'}:{broker_port(about)}"


def _property(topic: Topic, writes: Topic | None, at: str) -> dict[str, Any]:
    affordance: dict[str, Any] = {
        "title": f"{topic.label}: {topic.what}",
        **value_schema(topic),
        "observable": True,
    }
    if topic.unit:
        affordance["unit"] = topic.unit
    if writes is None:
        affordance["readOnly"] = True
    affordance["forms"] = [_heard(topic, at, "property", SENML if topic.packed else JSON)]
    if writes:
        affordance["forms"].append(_said(writes, at, "writeproperty"))
    return affordance


def _action(topic: Topic, at: str) -> dict[str, Any]:
    affordance: dict[str, Any] = {
        "title": f"{topic.label}: {topic.what}",
        "forms": [_said(topic, at, "invokeaction")],
    }
    given = input_schema(topic)
    return affordance | ({"input": given} if given else {})


def _heard(topic: Topic, at: str, of: str, kind: str = JSON) -> dict[str, Any]:
    """A form for what the device says."""
    ops = (
        ["subscribeevent", "unsubscribeevent"]
        if of == "event"
        else ["readproperty", "observeproperty", "unobserveproperty"]
    )
    return {
        "href": f"{at}/{topic.name}", "op": ops, "contentType": kind, "mqv:controlPacket": "subscribe", "mqv:filter": topic.name,
        "mqv:qos": str(topic.qos), "mqv:retain": topic.retained,
    }  # fmt: skip


def _said(topic: Topic, at: str, op: str) -> dict[str, Any]:
    """A form for what is said to the device."""
    return {
        "href": f"{at}/{topic.name}", "op": op, "contentType": JSON, "mqv:controlPacket": "publish", "mqv:topic": topic.name,
        "mqv:qos": "1", "mqv:retain": False,
    }  # fmt: skip
