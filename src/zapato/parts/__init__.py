"""Kinds of parts: each a bundle, a folder here or of an extension, whose `part.py` has a `KIND`.

It is imported when a device file first uses the kind, so a check loads only what the file needs.
"""

from __future__ import annotations

from functools import cache

from zapato import extensions
from zapato.parts.kind import Action, Argument, Driver, Kind, Need, Part, Property, opposite
from zapato.parts.simulation import Simulation

__all__ = [
    "Action",
    "Argument",
    "Driver",
    "Kind",
    "Need",
    "Part",
    "Property",
    "Simulation",
    "kind",
    "kind_names",
    "kinds",
    "opposite",
]  # fmt: skip


@cache
def kind_names() -> tuple[str, ...]:
    """The names of all kinds, in order. Raises ZapatoError where an extension has the name of one of ours."""
    ours = frozenset(bundle.name for bundle in extensions.own_bundles().values() if not bundle.chip_of)
    return tuple(sorted(extensions.beside(ours, "part.py", "a kind of part")))


@cache
def kind(name: str) -> Kind | None:
    """The kind with this name, or None. Raises ZapatoError where an extension's cannot be loaded."""
    bundle = extensions.bundle(name, "part.py") if name in kind_names() else None
    return bundle.member("part", "KIND") if bundle else None


extensions.on_change(kind_names.cache_clear)
extensions.on_change(kind.cache_clear)


def kinds() -> tuple[Kind, ...]:
    """Every kind, in the order of their names."""
    return tuple(known for name in kind_names() if (known := kind(name)))
