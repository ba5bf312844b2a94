"""Values that links and the network set, and that may outlive a power cut."""

from __future__ import annotations

from zapato.parts.kind import Driver, Part


def held(part: Part, prop: str, first: object, low: object, high: object) -> Driver:
    """The driver of a flag or a number; `first` is what it begins with where nothing is said, or kept."""
    start = part.get("start", first)
    if start == "last":
        return Driver("variable_persisted", "PersistedVariable", (prop, first, low, high))
    return Driver("variable", "Variable", (prop, start, low, high))
