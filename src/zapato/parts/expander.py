"""A pin expander on I2C: `pin = "io.3"` is pin 3 of the expander called io."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from zapato.boards.model import Pin
from zapato.lang.fields import REQUIRED, choice, names, whole
from zapato.parts.model import Kind, Part
from zapato.parts.offered import offered_pin


@dataclass(frozen=True)
class _Chip:
    pins: int
    addresses: tuple[int, ...]
    pull_up: bool
    source: str


CHIPS: Mapping[str, _Chip] = {
    "mcp23017": _Chip(
        16, tuple(range(0x20, 0x28)), True, "MCP23017 datasheet, Device Overview; GPPU register"
    ),
    "pcf8574": _Chip(
        8, tuple(range(0x20, 0x28)), True, "PCF8574 datasheet, Quasi-bidirectional I/Os; Device address"
    ),
    "pcf8575": _Chip(
        16, tuple(range(0x20, 0x28)), True, "PCF8575 datasheet, Quasi-bidirectional I/Os; Device address"
    ),
}


def _offers(part: Part) -> Mapping[str, Pin]:
    found = CHIPS.get(part.get("chip", ""))
    if found is None:
        return {}
    numbers = range(found.pins)
    return {
        str(n): offered_pin(part.name, n, drives=True, pull_up=found.pull_up, source=found.source)
        for n in numbers
    }


def _addresses(part: Part) -> tuple[int, ...]:
    found = CHIPS.get(part.get("chip", ""))
    return found.addresses if found else ()


KIND = Kind(
    name="expander",
    help="a pin expander on I2C; it offers pins to other parts",
    fields=(
        choice("chip", "the expander's chip", *CHIPS),
        names("bus", "the I2C bus it hangs on", REQUIRED, role="bus"),
        whole("address", "its address on the bus", None, least=1, most=127),
    ),
    offers=_offers,
    addresses=_addresses,
    example='[i2c.main]\nsda = 21\nscl = 22\n\n[expander.io]\nchip = "mcp23017"\nbus = "main"\n\n[relay.pump]\npin = "io.3"',
)
