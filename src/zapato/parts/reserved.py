"""Names that a driver on the device has for itself, so that no value which a file names may have them."""

from __future__ import annotations

import re
from functools import cache

from zapato import extensions
from zapato.lang.fields import Wrong
from zapato.regex import regex

_OWN = regex(r"\bself\.(\w+)|^    def (\w+)|^    (\w+) =", re.MULTILINE)


@cache
def reserved(*classes: str) -> frozenset[str]:
    """What these classes of the program, "module.Class", and every part's own call their attributes and methods."""
    reserved_names: set[str] = set()
    for cls in ("loop.Part", *classes):
        module, _, name = cls.partition(".")
        text = extensions.device_source(module, "") or ""
        own = next(block for block in text.split("\nclass ") if block.startswith((f"{name}:", f"{name}(")))
        reserved_names.update(name for names in _OWN.findall(own) for name in names if name)
    return frozenset(reserved_names)


def free(name: str, *classes: str) -> str:
    """The name, where a driver of these classes leaves it free. Raises Wrong."""
    if name in reserved(*classes):
        raise Wrong(f'has the name "{name}", which the program uses for itself', f"{name}_1, or another name")
    return name
