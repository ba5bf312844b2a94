"""The site: site.toml and secrets.toml of the folder that a device file belongs to.

A named secret may stand only in the network's settings: any other text is shown in reports or goes into the update package.
"""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Mapping
from dataclasses import field, replace
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

from zapato import extensions
from zapato.errors import Unreadable
from zapato.findings import Finding
from zapato.lang.document import Document
from zapato.lang.fields import (
    REQUIRED,
    Field,
    Shape,
    Wrong,
    boolean,
    choice,
    measured,
    named,
    names,
    nearest,
    text,
    whole,
)
from zapato.lang.network import host, topic
from zapato.lang.source import MEMBER, Source, shown, table
from zapato.lang.unsaved import stamp
from zapato.record import record

if TYPE_CHECKING:
    from zapato.lang.tables import EthernetTable, LanTable, MqttTable, TimeTable, WifiTable

NAME = r"[a-z](?:[a-z0-9-]{0,29}[a-z0-9])?"
NAME_WORDS = "a name has 1 to 31 of a-z, 0-9 and -, and starts with a letter"


def read_addresses(value: object) -> dict[str, str]:
    """The table of fixed addresses."""
    if not isinstance(value, dict) or not all(
        isinstance(v, str) for v in cast(dict[str, object], value).values()
    ):
        raise Wrong('takes a table of texts: { boot-dryer = "192.168.4.20" }')
    return dict(cast(dict[str, str], value))


SITE = Shape(
    (
        named("name", "first part of every topic", NAME, NAME_WORDS),
        text("label", "the name for people"),
        names("extensions", "folders of extensions/ whose code belongs to this site", role=""),
    )
)
WIFI = Shape(
    (
        text(
            "name",
            "the network's name (SSID); without one the device asks for it on its own access point",
            "",
            hidden=True,
        ),
        text("password", "its password", "", secret=True),
        choice(
            "access",
            "when the device opens its own access point: also after a power-up without a connection, or only on command",
            "alone",
            "asked",
            default="alone",
        ),
        text("access_password", "the password of that access point; without one it is open", "", secret=True),
        # extmod/modnetwork.c, network_country: the ports raise ValueError where it has not two letters
        named(
            "country",
            "its code by ISO 3166, for the radio's channels",
            r"([A-Z]{2})?",
            "a country is two capital letters, such as CH",
            "",
        ),
        choice("band", "the network's band", "2.4GHz", "5GHz", default="2.4GHz"),
    )
)
MQTT = Shape(
    (
        host("host", "name or address of the broker", REQUIRED),
        whole("port", "its port; 1883, or 8883 with TLS", None, least=1, most=65535),
        text("user", "user name, where the broker asks for one", "", hidden=True),
        text("password", "its password", "", secret=True),
        boolean("tls", "speak TLS", False),
        text(
            "authority",
            "a PEM file in the site: the certificate of the authority that signed the broker's; TLS needs it",
            None,
        ),
        topic("topic", "the first levels of the device's topics, in place of site/device"),
        choice(
            "report",
            "how values are written: plain JSON, or SenML packs (RFC 8428)",
            "json",
            "senml",
            default="json",
        ),
        measured(
            "apart",
            "the shortest time between two reports of a part's values; of those in between only the newest is sent",
            "time",
            None,
            least=100,
        ),
        whole("qos", "quality of service of what the device publishes: 0 or 1", 0, least=0, most=1),
        measured(
            "keep_alive",
            "the longest silence before the broker counts the device as gone",
            "time",
            30_000,
            least=5_000,
        ),
    )
)
LAN = Shape(
    (
        named("network", "addresses of the network", r"[0-9./]+", 'written like "192.168.4.0/24"'),
        text("router", "address of the router"),
        text("names", "address of the name server; the router where it is absent"),
        names("dhcp", "first and last address that the router gives out", (), role=""),
        Field(
            "addresses",
            read_addresses,
            {"type": "object", "additionalProperties": {"type": "string"}},
            "device name -> its fixed address",
            {},
        ),
    )
)


def _read_zone(value: object) -> str:
    from zapato.lang.zones import zone, zone_names

    if not isinstance(value, str):
        raise Wrong('takes the name of a time zone: "Europe/Zurich"')
    if zone(value) is None:
        names = zone_names()
        ends = [name for name in names if name.rpartition("/")[2].lower() == value.lower().replace(" ", "_")]
        near = (f'"{ends[0]}"',) if ends else nearest(value, names) or ('such as "Europe/Zurich"',)
        raise Wrong(f'is "{value}", and no time zone is called that', *near)
    return value


def _degrees(name: str, help: str, most: int) -> Field:
    def read(value: object) -> float:
        if isinstance(value, bool) or not isinstance(value, (int, float)) or not -most <= value <= most:
            raise Wrong(f"takes degrees from -{most} to {most}, without quotes: {name} = 46.52")
        return float(value)

    return Field(name, read, {"type": "number", "minimum": -most, "maximum": most}, help)


TIME = Shape(
    (
        Field(
            "zone",
            _read_zone,
            {"type": "string"},
            'the time zone, as the IANA data call it: "Europe/Zurich"',
            REQUIRED,
        ),
        host("server", "name or address of the time server (SNTP)", "pool.ntp.org"),
        _degrees("latitude", "where the sun is to rise and set: degrees north", 90),
        _degrees("longitude", "degrees east", 180),
    )
)
ETHERNET = Shape((text("address", "its fixed address, where lan.addresses has none for it"),))


@record(frozen=True)
class Site:
    """One place with its devices.

    Attributes:
        root: its folder; None for a device file that stands alone.
        name, label: for topics and for people.
        wifi, mqtt, time: the values of their tables, or None where the site has none.
        lan: the address plan, or None.
        document: site.toml itself, for places.
        secrets: the named texts of secrets.toml.
        update_keys: device name -> the key that signs its updates, as hex.
        findings: mistakes in site.toml and secrets.toml.
        extensions: the folders of extensions/ whose code belongs to it.
    """

    root: Path | None = None
    name: str = "site"
    label: str = ""
    wifi: WifiTable | None = None
    mqtt: MqttTable | None = None
    time: TimeTable | None = None
    lan: LanTable | None = None
    document: Document | None = field(default=None, repr=False, compare=False)
    secrets: Mapping[str, str] = field(default_factory=dict[str, str], repr=False)
    update_keys: Mapping[str, str] = field(default_factory=dict[str, str], repr=False)
    findings: tuple[Finding, ...] = ()
    texts: Mapping[str, str] = field(default_factory=dict[str, str], repr=False)
    extensions: tuple[str, ...] = ()


_REHEARSALS = f"{os.sep}rehearsals"
"""The site.toml of this folder is the rehearsal of the whole site."""


def site_of(path: Path) -> Site:
    """The site that the file or folder at `path` belongs to. Raises Unreadable."""
    folder = str(path.absolute())
    if not os.path.isdir(folder):
        folder = os.path.dirname(folder)
    levels = 4 if MEMBER in folder else 3
    for _ in range(levels):  # in plain texts: this is asked for every device of thousands
        there = not folder.endswith(_REHEARSALS) and _stamp(f"{folder}{os.sep}site.toml")
        if there:
            site = _cached(folder, there, _stamp(f"{folder}{os.sep}secrets.toml"))
            extensions.for_site(site.root, site.extensions)
            return site
        folder = os.path.dirname(folder)
    extensions.for_site(None, ())
    return Site()


def _stamp(path: str) -> tuple[int, ...] | None:
    if typed := stamp(path):
        return typed
    try:
        about = os.stat(path)
    except (OSError, ValueError):
        return None
    return about.st_mtime_ns, about.st_size, about.st_mode


@lru_cache(maxsize=8)
def _cached(folder: str, site_stamp: object, secrets_stamp: object) -> Site:
    """A site is read once, and again when one of its files has changed."""
    root = Path(folder)
    secrets, keys, secret_findings, secret_source = _secrets(root)
    source = Source.read(root / "site.toml")
    document = Document.of(source, secrets)
    texts = {source.name: source.text}
    if secret_findings and secret_source:
        texts[secret_source.name] = secret_source.text
    about = document.read(SITE, table(document.data, "site"), ("site",))
    wifi, mqtt = network_tables(document)
    for key in document.data.keys() - {"site", "wifi", "mqtt", "time", "lan", "zapato"}:
        document.found("unknown-key", (key,), f"{key} is not a table of site.toml", of="key")
    for name in about.get("extensions") or ():
        if wrong := extensions.why_not(root, name):
            document.found("unknown-reference", ("site", "extensions"), wrong, of="value")
    return Site(
        root,
        about.get("name", "site"),
        about.get("label") or "",
        wifi,
        mqtt,
        time_table(document),
        cast("LanTable | None", _table_of(document, "lan", LAN)),
        document,
        secrets,
        keys,
        (*secret_findings, *document.findings),
        texts,
        tuple(about.get("extensions") or ()),
    )


def network_tables(
    document: Document, wifi: WifiTable | None = None, mqtt: MqttTable | None = None
) -> tuple[WifiTable | None, MqttTable | None]:
    """The [wifi] and [mqtt] of a document, read; None where it has none.

    With those of its site, a device's table counts key by key, and the rest is the site's.
    """
    own_wifi = cast("WifiTable | None", _over(document, "wifi", WIFI, cast("dict[str, Any] | None", wifi)))
    return own_wifi, cast(
        "MqttTable | None", _over(document, "mqtt", MQTT, cast("dict[str, Any] | None", mqtt))
    )


BELONG = {"wifi": ("name", ("password",)), "mqtt": ("host", ("user", "password", "authority"))}
"""What is only given away together with the network or broker that it was meant for."""


def _over(
    document: Document, name: str, shape: Shape, base: Mapping[str, Any] | None
) -> dict[str, Any] | None:
    """A device's table over its site's."""
    given = document.data.get(name)
    if base is None or not isinstance(given, dict):
        return _table_of(document, name, shape)
    optional = Shape(
        tuple(replace(field, default=None) if field.required else field for field in shape.fields)
    )
    own = _table_of(document, name, optional) or {}
    merged = {**base, **{key: value for key, value in own.items() if key in given}}
    whose, secrets = BELONG[name]
    if whose in given and merged.get(whose) != base.get(whose):
        merged |= {key: own.get(key) for key in secrets}
    return merged


def time_table(document: Document) -> TimeTable | None:
    """The [time] of a document, read; None where it has none."""
    return cast("TimeTable | None", _table_of(document, "time", TIME))


def _table_of(document: Document, name: str, shape: Shape) -> dict[str, Any] | None:
    """One table of a document, read; None where it has none."""
    raw = document.data.get(name)
    if isinstance(raw, dict):
        return document.read(shape, table(document.data, name), (name,))
    if raw is not None:
        document.found("wrong-type", (name,), f"{name} takes a table: [{name}]")
    return None


def ethernet_table(document: Document) -> EthernetTable | None:
    """The [ethernet] of a device, read; None where it has none."""
    return cast("EthernetTable | None", _table_of(document, "ethernet", ETHERNET))


def _secrets(root: Path) -> tuple[dict[str, str], dict[str, str], list[Finding], Source | None]:
    path = root / "secrets.toml"
    try:
        source = Source.read(path)
    except Unreadable:
        if path.exists():
            raise
        return {}, {}, [], None
    named = {key: value for key, value in source.data.items() if isinstance(value, str)}
    keys = {key: value for key, value in table(source.data, "update_keys").items() if isinstance(value, str)}
    document = Document(source, source.data, findings=[_veiled(finding) for finding in source.findings])
    _keys(document)
    for key, value in source.data.items():
        if not isinstance(value, str) and key != "update_keys":
            document.found("wrong-type", (key,), f"the secret {key} takes a text in quotes")
    if os.name == "posix" and path.exists() and path.stat().st_mode & (stat.S_IRGRP | stat.S_IROTH):
        document.found(
            "secret-in-clear",
            (),
            "secrets.toml can be read by other users of this machine",
            severity="warning",
            fixes=(f"chmod 600 {shown(path)}",),
        )
    return named, keys, document.findings, Source(path, "")


def _veiled(finding: Finding) -> Finding:
    """A mistake of secrets.toml without any word of its lines."""
    return replace(finding, message=f"line {finding.place.line} cannot be read", fixes=())


def _keys(document: Document) -> None:
    """Every update key is a text of hexadecimal digits."""
    for name, key in table(document.data, "update_keys").items():
        if not isinstance(key, str) or not re.fullmatch(f"(?:[0-9a-fA-F]{{2}}){{{KEY_LEAST},}}", key):
            message = f"the update key of {name} is no text of at least {2 * KEY_LEAST} hexadecimal digits"
            fixes = ("remove it, and a new one is made at the next build",)
            document.found("wrong-type", ("update_keys", name), message, fixes=fixes)


KEY_LEAST = 16
"""Bytes that an update key must have."""
KEY_BYTES = 32
"""Length of an update key: that of the hash it is used with (RFC 2104, section 3)."""


def add_update_key(root: Path, device: str) -> str:
    """Make and store an update key for `device` in the site's secrets.toml, mode 0600; returns it as hex.

    An existing key stays. Raises Unreadable where the file there is not TOML, Unwritable; the file
    is replaced whole or not at all.
    """
    from zapato.lang.files import locked

    path = root / "secrets.toml"
    with locked(path):
        return _added_key(path, device)


def _added_key(path: Path, device: str) -> str:
    import secrets as randomness

    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    from zapato.lang.files import write_private

    try:
        document = tomlkit.parse(path.read_text("utf-8")) if path.exists() else tomlkit.document()
    except (TOMLKitError, ValueError):
        raise Unreadable(f"{shown(path)} is not TOML", "zapato check shows the line") from None
    keys = document.setdefault("update_keys", tomlkit.table())
    if not isinstance(keys, dict):
        raise Unreadable(f"update_keys in {shown(path)} is not a table", "[update_keys]")
    if device not in keys:
        keys[device] = randomness.token_hex(KEY_BYTES)
        write_private(path, tomlkit.dumps(document))
    return str(cast(dict[str, Any], keys)[device])
