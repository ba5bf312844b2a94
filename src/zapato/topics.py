"""What a device says and hears over MQTT, topic by topic (docs/formats.md has the payloads)."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from zapato.design.model import Design

ITSELF = ("tell", "restart", "settings", "forget", "update")


@dataclass(frozen=True)
class Topic:
    """One topic: its name, who says it, the payload in words, and whether the broker keeps it."""

    name: str
    way: Literal["from", "to"]
    payload: str
    retained: bool = False


def topics(design: Design) -> list[Topic]:
    """Every topic of a design; none where it has no broker."""
    return [*_topics(design)] if design.mqtt is not None else []


def _topics(design: Design) -> Iterator[Topic]:
    base = design.topic
    yield Topic(f"{base}/state", "from", "online, offline", True)
    for part in design.parts.values():
        for name, known in part.properties.items():
            if known.wanted and name not in part.asked:
                continue
            unit = f" in {known.unit}" if known.unit else ""
            options = f": {', '.join(known.options)}" if known.options else ""
            yield Topic(f"{base}/{part.name}/{name}", "from", f"{known.type}{unit}{options}", True)
            if known.settable:
                yield Topic(f"{base}/{part.name}/{name}/set", "to", f"{known.type}{unit}{options}")
        for event in part.kind.events:
            if event not in part.properties:
                yield Topic(f"{base}/{part.name}/{event}", "from", "{}")
        for action, about in part.kind.actions.items():
            given = ", ".join(f"{each.name} ({'s' if each.type == 'time' else each.type})" for each in about.arguments)
            yield Topic(f"{base}/{part.name}/do/{action}", "to", given or "empty")
    yield Topic(f"{base}/vitals", "from", "uptime, signal, heap, version, dropped")
    yield Topic(f"{base}/notes", "from", "text")
    for action in ITSELF:
        yield Topic(f"{base}/device/do/{action}", "to", "version and seal" if action == "update" else "empty")
