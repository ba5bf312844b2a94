"""Which MicroPython modules a driver needs: its own, and what these import."""

from __future__ import annotations

import re
from functools import cache

from zapato import extensions
from zapato.lang.folder import remembered
from zapato.regex import regex

_IMPORT = regex(r"^(?:from|import) (\w+)", re.MULTILINE)


def with_imports(module: str) -> frozenset[str]:
    """The module and all that it imports, as far as these are modules of ours, of an extension, or of a described chip."""
    return remembered(_with_imports_now, (module, extensions.scope()))


def _with_imports_now(key: tuple[str, object]) -> frozenset[str]:
    module, _ = key
    modules: set[str] = set()
    waiting = [module]
    while waiting:
        name = waiting.pop()
        if name in modules:
            continue
        imports = _own_imports(name) if extensions.is_ours(name) else _imports(name)
        if imports is not None:
            modules.add(name)
            waiting += imports
    return frozenset(modules)


@cache
def _own_imports(module: str) -> frozenset[str]:
    """Of our modules it is known for good; those of a site, and descriptions of chips, are written while the program runs."""
    return frozenset(name for name in _imports(module) or () if extensions.is_ours(name))


def _imports(module: str) -> frozenset[str] | None:
    """What it imports itself; None where it is nobody's."""
    texts = _texts(module)
    return frozenset(module for text in texts for module in _IMPORT.findall(text)) if texts else None


def _texts(module: str) -> list[str]:
    texts = extensions.device_texts(module)
    if not texts and module.startswith("d_"):
        from zapato.parts.described import driver_source, of_module

        chip = of_module(module)
        texts = [driver_source(chip)] if chip else []
    return texts
