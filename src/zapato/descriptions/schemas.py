"""Values as JSON Schema, as both descriptions have them."""

from __future__ import annotations

from typing import Any

from zapato.parts.kind import Argument
from zapato.topics import Topic

TYPES = {"boolean": "boolean", "number": "number", "text": "string", "time": "number"}


def value_schema(topic: Topic) -> dict[str, Any]:
    """The value of a property: its type, range and options; null as well where it may be unknown."""
    schema: dict[str, Any] = {"type": TYPES[topic.type]}
    if topic.low is not None:
        schema["minimum"] = topic.low
    if topic.high is not None:
        schema["maximum"] = topic.high
    if topic.options:
        schema["enum"] = list(topic.options)
    if topic.unknown and not topic.packed:  # a SenML pack leaves out what is not known
        return {"oneOf": [schema, {"type": "null"}]}
    return schema


def argument_schema(argument: Argument) -> dict[str, Any]:
    """One argument of an action; a time is in seconds."""
    schema: dict[str, Any] = {"type": TYPES[argument.type]}
    if argument.type == "time":
        schema |= {"unit": "s", "exclusiveMinimum": 0}
    elif argument.unit:
        schema["unit"] = argument.unit
    return schema


def input_schema(topic: Topic) -> dict[str, Any] | None:
    """What an action takes: nothing, one value, or a list of them."""
    given = [argument_schema(argument) for argument in topic.arguments]
    if not given:
        return None
    if len(given) == 1:
        return given[0]
    return {"type": "array", "items": given, "minItems": len(given), "maxItems": len(given)}
