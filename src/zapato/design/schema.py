"""The language as a JSON Schema (draft 2020-12), so that editors complete and check device files."""

from __future__ import annotations

from typing import Any

from zapato.boards import board_ids
from zapato.design.links import SHAPE as LINK
from zapato.design.resolve import DEVICE, LANGUAGE
from zapato.lang.fields import Field, Shape
from zapato.lang.site import ETHERNET, MQTT, NAME, TIME, WIFI
from zapato.parts import kinds

SECRET = {"$ref": "#/$defs/secret"}
GAP = {"$ref": "#/$defs/gap"}
"""What a row of a family fills."""
PART_NAME = "^[a-z][a-z0-9_]{0,30}$"


def schema() -> dict[str, Any]:
    """The JSON Schema of a device file."""
    properties: dict[str, Any] = {
        "zapato": {"const": LANGUAGE, "description": "language version"},
        "use": {
            "anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}}],
            "description": "pieces to merge in",
        },
        "with": {
            "anyOf": [
                {"type": "object"},
                {"type": "string"},
                {"type": "array", "items": {"type": "object"}, "minItems": 1},
            ],
            "description": "values that the pieces ask for; or a table, for a family: a device for each row",
        },
        "device": _device(),
        "wifi": table(WIFI),
        "mqtt": table(MQTT),
        "time": table(TIME),
        "ethernet": table(ETHERNET),
        "link": {"type": "array", "items": table(LINK), "description": "rules between parts: when, if, do"},
    }
    for kind in kinds():
        one = table(kind.whole_shape)
        properties[kind.name] = {
            "type": "object",
            "description": kind.help,
            "patternProperties": {PART_NAME: one},
            "additionalProperties": False,
        }
    text = {"type": "string", "minLength": 1}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Zapato device file",
        "type": "object",
        "properties": properties,
        "required": ["zapato", "device"],
        "additionalProperties": False,
        "$defs": {"secret": _named("secret", text), "gap": _named("with", text)},
    }


def _named(key: str, value: dict[str, Any]) -> dict[str, Any]:
    return {"type": "object", "properties": {key: value}, "required": [key], "additionalProperties": False}


def _device() -> dict[str, Any]:
    made = table(DEVICE)
    made["properties"]["board"]["examples"] = list(board_ids())
    name = {"type": "string", "pattern": f"^{NAME}$"}
    made["properties"]["name"] = {"anyOf": [name, GAP], "description": "unique in the site, for machines"}
    return made


def table(shape: Shape) -> dict[str, Any]:
    """The schema of one table."""
    return {
        "type": "object",
        "properties": {field.name: _field(field) for field in shape.fields},
        "required": [field.name for field in shape.fields if field.required],
        "additionalProperties": False,
    }


def _field(field: Field) -> dict[str, Any]:
    own = dict(field.schema)
    made: dict[str, Any] = {"anyOf": [own, SECRET, GAP] if field.hidden else [own, GAP]}
    default = field.default
    if (
        isinstance(default, (str, bool, int, float))
        and not field.required
        and default != ""
        and "pattern" not in own
    ):
        made["default"] = default
    return {**made, "description": field.help}
