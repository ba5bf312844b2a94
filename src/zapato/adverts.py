"""What advertises over Bluetooth LE, as a radio passes it on: how strongly it was heard, its name, its structures.

Source: Bluetooth Core Specification, Vol 3, part C, 11 (structures: length, type, data); Assigned Numbers, 2.3 (types).
"""

from __future__ import annotations

from dataclasses import field
from typing import Any, cast

from zapato.lang.json_text import read_json
from zapato.record import record
from zapato.regex import regex

HEARD = "heard"
"""The event with which a radio passes on what it heard."""
_NAMES = (0x08, 0x09)
_FLAGS = 0x01
_ADDRESS = regex("[0-9a-f]{2}(:[0-9a-f]{2}){5}")
MOST = 200
"""Addresses that are kept at the most."""


@record
class Advert:
    """One that advertises.

    Attributes:
        strength: how strongly it was heard last, dBm.
        name: the name that it tells; "" where it tells none.
        says: its structures but flags and name, as the `data` of a beacon writes them: "16 1a18 d007".
    """

    strength: int = 0
    name: str = ""
    says: list[str] = field(default_factory=list[str])

    def hear(self, strength: int, data: bytes) -> None:
        self.strength = strength
        at = 0
        while at < len(data) and data[at] and at + data[at] < len(data):
            kind, body = data[at + 1], data[at + 2 : at + 1 + data[at]]
            at += data[at] + 1
            if kind in _NAMES:
                self.name = body.decode("utf-8", "replace")[:32]
            elif kind != _FLAGS:
                self._keep(f"{kind:02x} {body[:2].hex()} {body[2:].hex()}".strip())

    def _keep(self, said: str) -> None:
        """The newest of each sort, which its first three bytes tell."""
        self.says = [*[advert for advert in self.says if advert[:7] != said[:7]][-7:], said]


def hear(known: dict[str, Advert], payload: str) -> None:
    """Take in a message of `<radio>/heard`; what is none is left out."""
    try:
        row: Any = read_json(payload)
    except ValueError:
        return
    if not isinstance(row, dict):
        return
    said = cast(dict[str, Any], row)
    address, strength, data = said.get("address"), said.get("strength"), said.get("data")
    if not (isinstance(address, str) and isinstance(strength, int) and isinstance(data, str)):
        return
    try:
        body = bytes.fromhex(data)
    except ValueError:
        return
    if _ADDRESS.fullmatch(address) and (address in known or len(known) < MOST):
        known.setdefault(address, Advert()).hear(strength, body)
