"""The device's topics as an AsyncAPI 3.0 document.

Source: AsyncAPI Specification 3.0.0, and the AsyncAPI MQTT bindings 0.2.0. The application that is described is the device: what it
says it sends, what it hears it receives.
"""

from __future__ import annotations

import re
from typing import Any
from urllib.parse import urlsplit

from zapato.descriptions.schemas import input_schema, value_schema
from zapato.descriptions.thing import broker
from zapato.design import Design
from zapato.lang.senml import KEYS
from zapato.topics import Topic, topics


def asyncapi(design: Design) -> dict[str, Any]:
    """The document; without channels where the device has no broker."""
    at = urlsplit(broker(design))
    channels: dict[str, Any] = {}
    operations: dict[str, Any] = {}
    for topic in topics(design):
        name = re.sub(r"[^A-Za-z0-9]+", "_", topic.name.removeprefix(f"{design.topic}/"))
        channels[name] = {"address": topic.name, "messages": {"value": _message(topic)}}
        operation: dict[str, Any] = {
            "action": "send" if topic.way == "from" else "receive",
            "channel": {"$ref": f"#/channels/{name}"},
        }
        if topic.way == "from":
            operation["bindings"] = {
                "mqtt": {"qos": topic.qos, "retain": topic.retained, "bindingVersion": "0.2.0"}
            }
        operations[name] = operation
    secured: dict[str, Any] = (
        {"security": [{"type": "userPassword"}]} if (design.mqtt or {}).get("user") else {}
    )
    return {
        "asyncapi": "3.0.0",
        "info": {
            "title": design.label or design.name,
            "version": design.version,
            "description": f"What {design.name} says and hears over MQTT.",
        },
        "defaultContentType": "application/json",
        "servers": {
            "broker": {
                "host": at.netloc,
                "protocol": "secure-mqtt" if at.scheme == "mqtts" else "mqtt",
                **secured,
            }
        },
        "channels": channels,
        "operations": operations,
    }


def _record(topic: Topic) -> dict[str, Any]:
    """A record of a SenML pack (RFC 8428, section 4)."""
    key = KEYS[topic.type]
    about = {"n": {"type": "string"}, "u": {"type": "string"}, key: value_schema(topic)}
    return {"type": "object", "properties": about, "required": ["n", key]}


def _message(topic: Topic) -> dict[str, Any]:
    title = " ".join(word for word in (topic.label, topic.what) if word) or topic.of
    message: dict[str, Any] = {"name": topic.name, "title": title, "summary": topic.payload}
    if topic.of in ("state", "notes"):
        message |= {"contentType": "text/plain", "payload": {"type": "string"}}
    elif topic.packed:
        message |= {
            "contentType": "application/senml+json",
            "payload": {"type": "array", "items": _record(topic)},
        }
    elif topic.of in ("property", "set") or (topic.of == "heard" and topic.type):
        message["payload"] = value_schema(topic) | ({"description": topic.unit} if topic.unit else {})
    elif topic.of == "action" and (given := input_schema(topic)):
        message["payload"] = {key: value for key, value in given.items() if key != "unit"}
    elif topic.of in ("event", "vitals", "about"):
        message["payload"] = {"type": "object"}
    return message
