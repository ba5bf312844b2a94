"""W3C Thing Models: what every part of a kind offers, before it has a name, a topic and a broker.

Source: W3C Recommendation "Web of Things (WoT) Thing Description 1.1", section 10 (Thing Model); a placeholder is `{{NAME}}`.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import cache
from typing import Any

from zapato import extensions
from zapato.descriptions.thing import CONTEXT, affordances
from zapato.lang.fields import REQUIRED
from zapato.parts import kinds
from zapato.parts.kind import Kind, Part
from zapato.parts.sensors import chip, chip_names
from zapato.topics import topics_of

BASE, BROKER, NAME, LABEL = "{{TOPIC}}", "{{BROKER}}", "{{PART}}", "{{LABEL}}"
"""Placeholders: the device's own topic, where its broker is, the part's name for machines and for people."""


@cache
def thing_models() -> dict[str, dict[str, Any]]:
    """A Thing Model for each kind that offers something, and for each sensor chip, by "kind" or "sensor-chip"."""
    return {name: made for name, part in _parts() if (made := _model(name, part)) is not None}


extensions.on_change(thing_models.cache_clear)


def _parts() -> Iterator[tuple[str, Part]]:
    for kind in kinds():
        if kind.has_role("sensor"):
            for name in chip_names():
                yield f"sensor-{name}", Part(kind, NAME, {**_usual(kind), "chip": name})
        else:
            yield kind.name, Part(kind, NAME, _usual(kind))


def _usual(kind: Kind) -> dict[str, Any]:
    return {field.name: field.default for field in kind.fields if field.default is not REQUIRED} | {
        "label": LABEL
    }


def _model(name: str, part: Part) -> dict[str, Any] | None:
    part.asked = set(part.properties)
    described = affordances(topics_of(BASE, part, 1), BROKER)
    offered = {  # a model's own names have no placeholder
        group: {key.removeprefix(f"{NAME}."): model for key, model in held.items()}
        for group, held in described.items()
    }
    if not offered:
        return None
    help_text = chip(str(part.values["chip"])).help if part.has_role("sensor") else part.kind.help
    return {
        "@context": CONTEXT,
        "@type": "tm:ThingModel",
        "title": name,
        "description": help_text,
        "version": {"model": "1.0.0"},
        "securityDefinitions": {"login": {"scheme": "basic", "in": "auto"}},
        "security": "login",
        **offered,
    }
