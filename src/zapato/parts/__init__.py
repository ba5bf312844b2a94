"""Kinds of parts. Each is one module here named like the kind; adding a kind is adding one module.

A kind's module has a `KIND`, or a bundle of an extension has it. It is imported when a device file first uses the kind, so a
check loads only what the file needs.
"""

from __future__ import annotations

from functools import cache
from importlib import import_module
from pkgutil import iter_modules

from zapato import extensions
from zapato.parts.model import Action, Argument, Bench, Driver, Kind, Need, Part, Property, opposite

__all__ = [
    "Action", "Argument", "Bench", "Driver", "Kind", "Need", "Part", "Property",
    "kind", "kind_names", "kinds", "opposite",
]  # fmt: skip

_NOT_KINDS = {
    "held",
    "model",
    "bus_chip",
    "chip_files",
    "digital",
    "electrical",
    "offered",
    "registers",
    "reserved",
    "sights",
    "switched",
    "treatment",
}


@cache
def _own() -> frozenset[str]:
    return frozenset(m.name for m in iter_modules(__path__) if m.name not in _NOT_KINDS and not m.ispkg)


@cache
def kind_names() -> tuple[str, ...]:
    """The names of all kinds, in order. Raises ZapatoError where an extension has the name of one of ours."""
    return tuple(sorted(extensions.beside(_own(), "part.py", "a kind of part")))


@cache
def kind(name: str) -> Kind | None:
    """The kind with this name, or None. Raises ZapatoError where an extension's cannot be loaded."""
    if name in _own():
        return import_module(f"zapato.parts.{name}").KIND
    return extensions.bundles()[name].member("part", "KIND") if name in kind_names() else None


extensions.on_change(kind_names.cache_clear)
extensions.on_change(kind.cache_clear)


def kinds() -> tuple[Kind, ...]:
    """Every kind, in the order of their names."""
    return tuple(found for name in kind_names() if (found := kind(name)))
