"""The design: a device file resolved against its board."""

from zapato.design.design import Design, PinUse
from zapato.design.links import Link
from zapato.design.resolve import resolve, resolve_all, sketch

__all__ = ["Design", "Link", "PinUse", "resolve", "resolve_all", "sketch"]
