"""Zapato: from a declarative device file to checked, rehearsed, installable firmware.

    import zapato
    design = zapato.load("devices/boot-dryer.toml")
    report = zapato.check(design)           # every mistake, at its place, with the way out
    built = zapato.build(design)            # compiled modules, update package, build.json
    run = zapato.rehearse(design)           # the built firmware in the real MicroPython VM

Everything is loaded when it is first used.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from pathlib import Path

    from zapato.budgets.whole import Budget, budget
    from zapato.checks import check
    from zapato.design import Design
    from zapato.errors import ZapatoError
    from zapato.findings import Finding, Report
    from zapato.firmware import Build, build
    from zapato.fitting import Fit, fit
    from zapato.stage import Rehearsal, SiteRehearsal, rehearse, rehearse_site

__version__ = "0.1.0"
__all__ = [
    "Budget",
    "Build",
    "Design",
    "Finding",
    "Fit",
    "Rehearsal",
    "Report",
    "SiteRehearsal",
    "ZapatoError",
    "budget",
    "build",
    "check",
    "fit",
    "load",
    "rehearse",
    "rehearse_site",
]

_HOMES = {
    "Budget": "budgets.whole",
    "Build": "firmware",
    "Design": "design",
    "Finding": "findings",
    "Fit": "fitting",
    "Rehearsal": "stage",
    "Report": "findings",
    "SiteRehearsal": "stage",
    "ZapatoError": "errors",
    "budget": "budgets.whole",
    "build": "firmware",
    "check": "checks",
    "fit": "fitting",
    "rehearse": "stage",
    "rehearse_site": "stage",
}


def load(path: str | Path) -> Design:
    """The design of the device file at `path`; mistakes are in `design.findings`.

    Raises zapato.errors.Unreadable where the file cannot be read at all.
    """
    from pathlib import Path

    from zapato.design import resolve

    return resolve(Path(path))


def __getattr__(name: str) -> Any:
    if name not in _HOMES:
        raise AttributeError(f"module 'zapato' has no attribute {name!r}")
    return getattr(import_module(f"zapato.{_HOMES[name]}"), name)
