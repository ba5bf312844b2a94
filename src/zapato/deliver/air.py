"""An update over the air: offered, fetched by the device, on trial, and what the device itself says in the end."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any, Protocol, cast

from zapato.deliver.offer import UpdateOffer
from zapato.errors import NotDelivered
from zapato.lang.json_text import read_json
from zapato.record import record

ASK = 5.0
"""Seconds between two questions whether it is there."""
PATIENCE = 300.0
"""Seconds without a sign of the device after which it is given up for now."""
APART = 30.0
"""Seconds between two offers at the least: a restart and a look for the broker take some."""
SILENT = 2
"""Signs of life without a number after which an offer is made as devices of before 0.2 know it."""
TRIES = 6
"""Offers that may end with the old version before it is told as failed: a version that is on trial takes none for two minutes."""


class BrokerLink(Protocol):
    """Messages to the device and back."""

    def publish(self, topic: str, payload: str | bytes) -> None: ...

    def next(self, seconds: float) -> tuple[str, bytes] | None: ...


@record(frozen=True)
class Updated:
    """What the device says of itself after an update.

    Attributes:
        device, before, version: whose, and from which to which version.
        sent: bytes that went out for it.
        size: of all its files.
        seconds: it took.
    """

    device: str
    before: str
    version: str
    sent: int
    size: int
    seconds: float


def over_the_air(
    offer: UpdateOffer,
    link: BrokerLink,
    *,
    again: bool = False,
    patience: float = PATIENCE,
    tell: Callable[[str, float], None] = lambda what, share: None,
    goes_on: Callable[[], bool] = lambda: True,
) -> Updated:
    """Bring one device to the version of `offer`.

    `tell` hears what goes on and how much of what is to be sent has gone. Raises NotOffered, and NotDelivered
    where the device does not answer for `patience` seconds, gives the update up, or goes back from it, and soon
    after `goes_on` gives False.
    """
    return _Delivery(offer, link, again, patience, tell).run(goes_on)


def runs_of(payload: bytes) -> tuple[str, str, str]:
    """What a device tells under update/runs: version, beginning of its manifest's digest, address; "" for what it does not tell."""
    parsed: list[object] = []
    try:
        row: Any = read_json(payload)
        parsed = cast(list[object], row) if isinstance(row, list) else []
    except ValueError:
        pass
    texts = [item[:64] if isinstance(item, str) else "" for item in parsed[:3]]
    version, digest, address = [*texts, "", "", ""][:3]
    return version, digest, address


class _Delivery:
    """One update as it goes on."""

    def __init__(
        self,
        offer: UpdateOffer,
        link: BrokerLink,
        again: bool,
        patience: float,
        tell: Callable[[str, float], None],
    ) -> None:
        self.offer, self.link, self.again, self.patience, self.tell = offer, link, again, patience, tell
        self.begun = self.heard = time.monotonic()
        self.before, self.offers, self.fetched, self.runs = "", 0, False, False
        self.offered, self.why = 0.0, ""
        self.number, self.numberless, self.speaks = "", 0, False
        self.digest = ""

    def run(self, goes_on: Callable[[], bool]) -> Updated:
        asked = 0.0
        self.tell("waiting for the device", 0.0)
        while not self.runs:
            now = time.monotonic()
            if not goes_on():
                raise NotDelivered(
                    "stopped by hand", "run the same command again: it continues where it stopped"
                )
            if now - self.heard > self.patience:
                raise NotDelivered(
                    f"{self.offer.topic} does not answer for {self.patience:.0f} s",
                    "zapato fleet tells who is there; the command can be repeated at any time",
                )
            if now - asked > ASK:
                asked = now
                self.link.publish(f"{self.offer.topic}/device/do/tell", "")
            message = self.link.next(min(1.0, ASK))
            if message and message[0].startswith(self.offer.topic + "/"):
                self._message(message[0][len(self.offer.topic) + 1 :], message[1])
        sent = sum(self.offer.sent.values())
        took = time.monotonic() - self.begun
        return Updated(self.offer.topic, self.before, self.offer.version, sent, self.offer.size, took)

    def _message(self, name: str, payload: bytes) -> None:
        if name == "update/want":
            self.heard = time.monotonic()
            self._want(payload)
        elif name == "update/number":
            self.number, self.speaks = payload.decode("utf-8", "replace"), True
        elif name == "update/runs":
            self.digest = runs_of(payload)[1]
        elif name == "update/status":
            self.heard = time.monotonic()
            self._status(payload)
        elif name == "vitals":
            self.heard = time.monotonic()
            self._vitals(payload)
        elif name == "notes":
            self.heard = time.monotonic()
            self._note(payload.decode("utf-8", "replace"))

    def _want(self, payload: bytes) -> None:
        answer = self.offer.answer(payload)
        if answer:
            self.fetched = True
            self.link.publish(*answer)
            self.tell("sending", min(1.0, sum(self.offer.sent.values()) / self.offer.size))

    def _vitals(self, payload: bytes) -> None:
        try:
            version = str(cast(dict[str, object], read_json(payload))["version"])
        except (ValueError, KeyError, TypeError):
            return
        if self.fetched and version == self.offer.version:
            self.tell("on trial", 1.0)
            return
        if self.offers and time.monotonic() - self.offered < APART:
            return
        if self.offers >= TRIES:
            raise NotDelivered(
                f"{self.offer.topic} stays with {version}: {self.why or 'it refuses the update'}",
                "zapato rehearse runs the new version at the desk",
            )
        topic, text = self.offer.made_to(version, self.number, self.again, self.digest)
        self.numberless += not self.number
        if not self.number and self.numberless <= SILENT:  # it tells one when it is asked how it is
            return
        self.before, self.number = self.before or version, ""
        self.offers, self.offered = self.offers + 1, time.monotonic()
        self.tell(f"offering {self.offer.version} to {version}", 0.0)
        self.link.publish(topic, text)

    def _status(self, payload: bytes) -> None:
        """What the device says to programs; before 0.2 there were only words for people."""
        self.speaks = True
        try:
            version, word = cast(list[object], read_json(payload))
        except (ValueError, TypeError):
            return
        if version == self.offer.version:
            self._ended(str(word), self.why)

    def _note(self, text: str) -> None:
        version = self.offer.version
        self.why = text if "fault" in text or version in text else self.why
        if self.speaks:
            return
        if text == f"version {version} runs":
            self._ended("runs", text)
        elif text.startswith((f"version {version} did not reach", f"update to {version} is given up")):
            self._ended("given up", text)

    def _ended(self, word: str, why: str) -> None:
        if word == "runs":
            self.runs = True
        elif word in ("given up", "back"):
            raise NotDelivered(f"{self.offer.topic}: {why or word}", "the version before it runs on")
