"""What the tables of a network hold once they are read, with the types of their values (times in ms). A key with a mistake is absent."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal, TypedDict


class WifiTable(TypedDict, total=False):
    """[wifi]."""

    name: str
    password: str
    access: Literal["alone", "asked"]
    access_password: str
    country: str
    band: Literal["2.4GHz", "5GHz"]


class MqttTable(TypedDict, total=False):
    """[mqtt]."""

    host: str
    port: int | None
    user: str
    password: str
    tls: bool
    authority: str | None
    topic: str | None
    report: Literal["json", "senml"]
    apart: int | None
    qos: int
    keep_alive: int


def broker_port(table: MqttTable) -> int:
    """The broker's port: as it is given, else the one that is registered for MQTT, with TLS or without (IANA: 8883, 1883)."""
    return table.get("port") or (8883 if table.get("tls") else 1883)


class TimeTable(TypedDict, total=False):
    """[time]; degrees north and east."""

    zone: str
    server: str
    latitude: float | None
    longitude: float | None


class EthernetTable(TypedDict, total=False):
    """[ethernet]."""

    address: str | None


class LanTable(TypedDict, total=False):
    """[lan] of a site."""

    network: str | None
    router: str | None
    names: str | None
    dhcp: tuple[str, ...]
    addresses: Mapping[str, str]
