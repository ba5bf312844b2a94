"""Stand-ins for the chips on buses, one module a chip: its registers as its datasheet has them.

A module has a class `Chip`, made with a function that gives what the chip feels by name; `write`
and `read` are the bytes of one transfer after the address.
"""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module
from typing import Any, Protocol

Feel = Callable[[str], Any]
"""Gives the quantity of this name at this moment; None where nothing was ever set."""


class BusChip(Protocol):
    """A chip on an I2C bus."""

    def write(self, data: bytes) -> None: ...

    def read(self, size: int) -> bytes: ...


def stand_in(name: str, feel: Feel) -> BusChip:
    """The stand-in for the chip of this name."""
    return import_module(f"zapato.stage.chips.{name}").Chip(feel)
