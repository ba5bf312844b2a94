"""Messages a second at the broker: of a device, and of its whole site."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from zapato.design.design import Design, once
from zapato.record import record

if TYPE_CHECKING:
    from zapato.budgets.row import BudgetRow

VITALS = 1 / 60
"""Messages a second of `vitals`."""
HEAD = 9
"""Bytes of a message beside topic and payload (MQTT 3.1.1, fixed header, lengths, packet identifier)."""
PAYLOAD = 6
"""Bytes of a usual value."""
DEVICE, SITE = 10.0, 100.0
"""Messages a second of one device, and of a site, from which on small brokers and the hubs behind them, which keep every value, fall behind."""


@record(eq=False)
class Traffic:
    """What a device says at the most, by topic under its own: messages a second. Sensors that report every reading."""

    name: str
    topics: tuple[tuple[str, float], ...]
    size: float

    @property
    def rate(self) -> float:
        return sum(rate for _, rate in self.topics)


@once
def traffic(design: Design) -> Traffic | None:
    """What a device says; None where it has no broker."""
    if design.mqtt is None:
        return None
    least = design.mqtt.get("apart") or 0
    topics: list[tuple[str, float]] = [("vitals", VITALS)]
    for part in design.parts.values():
        topics += [
            (f"{part.name}/{name}", 1000 / max(ms, least)) for name, ms in part.kind.often(part).items()
        ]
    bytes_a_second = sum(
        rate * (len(design.topic) + 1 + len(topic) + HEAD + PAYLOAD) for topic, rate in topics
    )
    return Traffic(design.name, tuple(topics), bytes_a_second)


def of_site(designs: Sequence[Design]) -> float:
    """Messages a second of all of these."""
    return sum(rate.rate for design in designs if (rate := traffic(design)))


def rows(design: Design) -> Iterator[BudgetRow]:
    """The figures of a device's traffic."""
    from zapato.budgets.row import row

    said = traffic(design)
    if said:
        worked = "1 / every, for each value; vitals once a minute"
        source = "a rule of thumb: hubs keep every value"
        yield row("traffic", said.name, "messages", said.rate, "1/s", DEVICE, formula=worked, source=source)
        yield row(
            "traffic",
            said.name,
            "bytes",
            said.size,
            "B/s",
            formula="topic + payload + 9 B",
            source="MQTT 3.1.1, PUBLISH",
        )
