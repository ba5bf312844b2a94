"""A device's log, live: what it says at the broker, row by row."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import asdict

from zapato.deliver.air import BrokerLink
from zapato.design import Design
from zapato.record import record
from zapato.regex import regex

FOUND = regex(r"\b(?:0x[0-9a-f]{2}|[0-9a-f]{16})\b")
"""Addresses on I2C, serial numbers on one-wire."""


@record(frozen=True)
class Said:
    """One thing that a device said.

    Attributes:
        at: s since the watching began.
        device: which.
        what: "note", "fault", "value", "event", "state" or "vitals".
        name: of the part and property, or empty.
        text: the payload.
        found: addresses and serial numbers in it.
    """

    at: float
    device: str
    what: str
    name: str
    text: str
    found: tuple[str, ...] = ()

    def as_dict(self) -> dict[str, object]:
        return asdict(self)


def watch(
    designs: Sequence[Design],
    link: BrokerLink,
    *,
    goes_on: Callable[[], bool] = lambda: True,
    wanted: Callable[[Said], bool] = lambda said: True,
) -> Iterator[Said]:
    """Everything that these devices say, as it comes, until `goes_on()` is False; `link` must hear `<topic>/#` of each."""
    begun = time.monotonic()
    by_topic = {design.topic: design for design in designs}
    while goes_on():
        message = link.next(0.5)
        if message is None:
            continue
        design = next((d for topic, d in by_topic.items() if message[0].startswith(f"{topic}/")), None)
        said = design and _said(design, message[0], message[1], time.monotonic() - begun)
        if said and wanted(said):
            yield said


def _said(design: Design, topic: str, payload: bytes, at: float) -> Said | None:
    """What a message is; None for what was said to the device, and for its description."""
    rest = topic[len(design.topic) + 1 :]
    path = rest.split("/")
    if rest == "about" or path[-1] == "set" or (len(path) == 3 and path[1] == "do") or path[0] == "update":
        return None
    text = payload.decode("utf-8", "replace")
    if rest == "notes":
        what = "fault" if "fault" in text or "did not reach" in text else "note"
        return Said(at, design.name, what, "", text, tuple(FOUND.findall(text)))
    if rest in ("state", "vitals"):
        return Said(at, design.name, rest, "", text)
    part = design.parts.get(path[0])
    known = part is not None and len(path) == 2 and path[1] in part.properties
    return Said(at, design.name, "value" if known else "event", ".".join(path), text)
