"""Every Python module of the package that runs on the host."""

import pkgutil
from collections.abc import Iterator
from importlib import import_module
from types import ModuleType

import zapato


def own_modules() -> Iterator[ModuleType]:
    for found in pkgutil.walk_packages(zapato.__path__, "zapato."):
        if ".device." in found.name or "machine_modules" in found.name or found.name.endswith("__main__"):
            continue
        yield import_module(found.name)
