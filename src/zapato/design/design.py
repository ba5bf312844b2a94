"""The design: a device file resolved against its board. Everything downstream takes one.

A resolved design does not change, so what is worked out of one is worked out once (`once`).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import field, replace
from functools import cached_property, wraps
from typing import TYPE_CHECKING, Any, TypeVar

from zapato.boards.board import Board, Pin
from zapato.findings import Finding, Severity
from zapato.lang.document import Document
from zapato.lang.site import Site
from zapato.lang.source import Keys
from zapato.parts.kind import Need, Part
from zapato.record import record

if TYPE_CHECKING:
    from zapato.design.links import Link
    from zapato.design.remote_parts import RemotePart, RemoteParts
    from zapato.design.scope import PartScope
    from zapato.lang.tables import EthernetTable, LanTable, MqttTable, TimeTable, WifiTable


T = TypeVar("T")


def once(work: Callable[[Design], T]) -> Callable[[Design], T]:
    """Work out something of a design the first time it is asked for: a resolved design does not change."""

    @wraps(work)
    def known(design: Design) -> T:
        if work not in design.known:
            design.known[work] = work(design)
        return design.known[work]

    return known


@record(frozen=True)
class PinUse:
    """One pin of one part.

    Attributes:
        part: whose pin it is.
        need: what the part asks of it.
        pin: the board's pin that was chosen.
    """

    part: Part
    need: Need
    pin: Pin

    @property
    def path(self) -> Keys:
        """Where the pin is given."""
        return (*self.part.path, self.need.field)

    def on(self, pin: Pin) -> PinUse:
        """The same use on another pin."""
        return replace(self, pin=pin)


@record
class Design:
    """A device, resolved. From then on it does not change: `dataclasses.replace` makes another.

    Attributes:
        document: values with places.
        site: the site it belongs to.
        name: of the device, as its topics have it.
        label: its name for people.
        room: where it is.
        version: of its program.
        board: None where the file names none that exists.
        parts: by name, in the order of the file.
        uses: every pin of every part that has one.
        wifi: the device's own [wifi] over the site's; None where it has neither.
        mqtt: the device's own [mqtt] over the site's; None where it has neither.
        time: the device's own [time] or the site's; None where neither says it.
        ethernet: where the device is wired; it then uses no Wi-Fi.
        links: the rules between parts.
        others: the devices around it, and what of them it listens to.
        findings: what reading and resolving found.
    """

    document: Document
    site: Site
    name: str = ""
    label: str = ""
    room: str = ""
    version: str = "1.0.0"
    board: Board | None = None
    parts: Mapping[str, Part] = field(default_factory=dict[str, Part])
    uses: Sequence[PinUse] = field(default_factory=list[PinUse])
    wifi: WifiTable | None = None
    ethernet: EthernetTable | None = None
    mqtt: MqttTable | None = None
    time: TimeTable | None = None
    links: Sequence[Link] = field(default_factory=list["Link"])
    others: RemoteParts | None = None
    known: dict[object, Any] = field(default_factory=dict[object, Any], init=False, repr=False, compare=False)
    """What was worked out of it already; see `once`."""

    def freeze(self) -> None:
        """It is resolved: whoever sets an attribute of it from now on gets an AttributeError."""
        self.uses, self.links = tuple(self.uses), tuple(self.links)
        self.__dict__["frozen"] = True

    def __setattr__(self, name: str, value: object) -> None:
        if self.__dict__.get("frozen"):
            raise AttributeError(
                f"a resolved design does not change; dataclasses.replace(design, {name}=…) makes another"
            )
        super().__setattr__(name, value)

    @property
    def findings(self) -> list[Finding]:
        return self.document.findings

    @property
    def radio(self) -> bool:
        """True where the device uses Wi-Fi, or would have to: [ethernet] on a board that has none."""
        wireless = self.board is None or not self.board.ethernet
        return self.wifi is not None or (self.ethernet is not None and wireless)

    @property
    def address(self) -> tuple[str, str, str, str] | None:
        """Its fixed address, the mask, the router and the name server; None where the router gives it one."""
        lan: LanTable = self.site.lan or {}
        wired: EthernetTable = self.ethernet or {}
        own = wired.get("address") or lan.get("addresses", {}).get(self.name)
        network, router = lan.get("network"), lan.get("router")
        if not own or not network or not router:
            return None
        from ipaddress import IPv4Network

        try:
            mask = str(IPv4Network(network, strict=False).netmask)
        except ValueError:
            return None
        return own, mask, router, lan.get("names") or router

    @property
    def topic(self) -> str:
        """The first two levels of its MQTT topics."""
        return (self.mqtt or {}).get("topic") or f"{self.site.name}/{self.name}"

    @cached_property
    def users(self) -> Mapping[int, list[PinUse]]:
        """GPIO number -> the uses of that pin, in the order of the file."""
        uses: dict[int, list[PinUse]] = {}
        for use in self.uses:
            uses.setdefault(use.pin.gpio, []).append(use)
        return uses

    def called(self, pin: Pin) -> str:
        """How messages call a pin on this device's board."""
        return self.board.called(pin) if self.board else pin.name

    @cached_property
    def scope(self) -> PartScope:
        """What its expressions may read."""
        from zapato.design.scope import PartScope

        return PartScope(self.parts, self.others)

    @property
    def heard(self) -> Mapping[str, RemotePart]:
        """Parts of other devices that it listens to, by "device.part"."""
        return self.others.heard if self.others else {}

    def finding(
        self,
        code: str,
        severity: Severity,
        path: Keys,
        message: str,
        *,
        why: str = "",
        fixes: Iterable[str] = (),
        pin: Pin | None = None,
        of: str = "value",
    ) -> Finding:
        """A finding at `path`, with the author's acceptance where the part gives one."""
        part = self.parts.get(str(path[1])) if len(path) > 1 else None
        if part and part.kind.name not in path[:1]:
            part = None
        accepted = ""
        if part and code in part.values.get("accept", ()):
            accepted = str(part.get("because", "")) or "no reason given"
        name = part.id if part else ""
        fixes_given = tuple(fix for fix in fixes if fix)
        called = pin.name if pin else ""
        place = self.document.place(path, of)
        return Finding(
            code,
            severity,
            place,
            message,
            why,
            fixes_given,
            name,
            called,
            accepted,
            self.name,
            self.row_place,
        )

    @cached_property
    def row_place(self) -> str:
        """Where the row of a family's member stands: "tables/lockers.csv:8"; else ""."""
        at = self.document.row.place if self.document.row else None
        return f"{at.file}:{at.line}" if at else ""

    def with_role(self, role: str) -> Iterator[Part]:
        """The parts of a kind, and those of kinds that can stand for it, in the order of the file."""
        if self.__dict__.get("frozen"):  # asked some fifty times at each check
            return iter(_by_role(self).get(role, ()))
        return (part for part in self.parts.values() if part.has_role(role))


@once
def _by_role(design: Design) -> dict[str, list[Part]]:
    groups: dict[str, list[Part]] = {}
    for part in design.parts.values():
        for role in part.kind.all_roles:
            groups.setdefault(role, []).append(part)
    return groups
