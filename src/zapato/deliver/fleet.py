"""Who of a site is there: what its devices say of themselves."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import field
from typing import Any, cast

from zapato.deliver.air import BrokerLink, runs_of
from zapato.design import Design
from zapato.lang.json_text import read_json
from zapato.record import record


@record
class FleetMember:
    """One device.

    Attributes:
        name, wanted: the device, and the version that its file has.
        state: "online", "offline", or "" where the broker knows nothing of it.
        version, signal (dBm), heap (bytes free), uptime (s): what it says of itself; None where it says nothing.
        address: of it in its network.
        fault: the last fault or trouble that it told while we listened.
    """

    name: str
    wanted: str
    state: str = ""
    version: str | None = None
    signal: int | None = None
    heap: int | None = None
    uptime: int | None = None
    address: str = ""
    fault: str = ""

    def as_dict(self) -> dict[str, object]:
        return dict(vars(self))


@record
class _Listening:
    topics: dict[str, FleetMember] = field(default_factory=dict[str, FleetMember])

    def hear(self, topic: str, payload: bytes) -> None:
        site, _, rest = topic.partition("/")
        name, _, what = rest.partition("/")
        member = self.topics.get(f"{site}/{name}")
        if member is None:
            return
        text = payload.decode("utf-8", "replace")
        if what == "state":
            member.state = text if text in ("online", "offline") else ""
        elif what == "update/runs":
            member.address = runs_of(payload)[2]
        elif what == "notes" and ("fault" in text or "did not reach" in text or "minimal" in text):
            member.fault = text
        elif what == "vitals":
            self._vitals(member, text)

    def _vitals(self, member: FleetMember, text: str) -> None:
        try:
            row: Any = read_json(text)
        except ValueError:
            return
        if isinstance(row, dict):
            said = cast(dict[str, Any], row)
            member.version = str(said.get("version", "")) or None
            member.signal, member.heap, member.uptime = (
                value if isinstance(value := said.get(key), int) else None
                for key in ("signal", "heap", "uptime")
            )


def fleet(designs: Sequence[Design], link: BrokerLink, seconds: float = 5.0) -> list[FleetMember]:
    """Ask every device of these for its vitals and listen so long; in the order given.

    `link` must hear `<topic>/state`, `/vitals`, `/update/runs` and `/notes` of each. Ends sooner where all have answered.
    """
    listening = _Listening({design.topic: FleetMember(design.name, design.version) for design in designs})
    for design in designs:
        link.publish(f"{design.topic}/device/do/tell", "")
    until = time.monotonic() + seconds
    members = listening.topics.values()
    while (left := until - time.monotonic()) > 0:
        if all(member.version or member.state == "offline" for member in members):
            break
        if message := link.next(min(0.5, left)):
            listening.hear(*message)
    return list(members)
