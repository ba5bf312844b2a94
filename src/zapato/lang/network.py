"""What stands in a network's settings: addresses and names of servers, topics."""

from __future__ import annotations

import re

from zapato.lang.fields import Field, Wrong
from zapato.regex import regex

_LABEL = regex(r"[A-Za-z0-9_](?:[A-Za-z0-9_-]{0,61}[A-Za-z0-9_])?")
"""One label of a name (RFC 1123, 2.1); underscores stand in names of the link."""
LONGEST = 64
"""Letters of a name that the device keeps room for."""


def host(name: str, help: str, default: object) -> Field:
    """The name or the IPv4 address of a server."""
    schema = {"type": "string", "minLength": 1, "maxLength": LONGEST}
    return Field(name, _read_host, schema, help, default, hidden=True)


def topic(name: str, help: str) -> Field:
    """The first levels of topics."""
    schema = {
        "type": "string",
        "minLength": 1,
        "maxLength": 200,
        "pattern": r"^[^/\s+#$][^\s+#]*[^/\s+#]$|^[^/\s+#$]$",
    }
    return Field(name, _read_topic, schema, help, None)


def _read_host(value: object) -> str:
    if not isinstance(value, str):
        raise Wrong('takes a name or an address in quotes: "192.168.4.2"')
    if not value.strip():
        raise Wrong("is empty", 'a name or an address: "192.168.4.2"')
    if "://" in value:
        rest = value.partition("://")[2].partition("/")[0]
        raise Wrong(f'is "{value}", a URL: a name or an address alone', *_parted(rest))
    if re.fullmatch(r"[^:]+:\d+", value):
        raise Wrong(f'is "{value}", with a port', *_parted(value))
    if ":" in value:
        raise Wrong(f'is "{value}": the ports of MicroPython speak IPv4 alone', 'four numbers: "192.168.4.2"')
    if len(value) > LONGEST:
        raise Wrong(f"is {len(value)} characters long; {LONGEST} is the most")
    labels = value.split(".")
    if labels[-1].isdecimal():
        if len(labels) != 4 or any(not label.isdecimal() or int(label) > 255 for label in labels):
            raise Wrong(f'is "{value}": an address is four numbers from 0 to 255, such as "192.168.4.2"')
    elif not all(map(_LABEL.fullmatch, labels)):
        raise Wrong(f'is "{value}": a name has letters, digits, - and dots between them')
    return value


def _parted(text: str) -> tuple[str, ...]:
    """The way out of an address with a port."""
    name, _, port = text.partition(":")
    return (f'"{name}", and port = {port} beside it' if port else f'"{name}"',)


def _read_topic(value: object) -> str:
    if not isinstance(value, str) or not value:
        raise Wrong('takes the first levels of topics in quotes: "house/cellar"')
    if wildcards := sorted(set(value) & set("+#")):
        raise Wrong(
            f'is "{value}": {" and ".join(wildcards)} are wildcards of subscribers and not allowed in a topic that is published (MQTT 3.1.1, 4.7.1)'
        )
    if value.startswith("$"):
        raise Wrong(f'is "{value}": topics that begin with $ are the broker\'s own (MQTT 3.1.1, 4.7.2)')
    if value.startswith("/") or value.endswith("/") or "//" in value:
        raise Wrong(
            f'is "{value}", which has an empty level', f'"{"/".join(filter(None, value.split("/")))}"'
        )
    if re.search(r"[\s\0]", value):
        raise Wrong(
            f'is "{value}": whoever types this topic makes mistakes with blanks',
            f'"{"-".join(value.split())}"',
        )
    if len(value) > 200:
        raise Wrong(f"is {len(value)} characters long; 200 is the most")
    return value
